// Enqueues, leases and settles a job by the types that openapi-typescript makes of the
// description of the API.
import createClient from "openapi-fetch";
import type { paths } from "./schema.js";

const mule = createClient<paths>({ baseUrl: process.argv[2] });

const made = await mule.POST("/v1/jobs", { body: { task: "berth.plan", queue: "generated-ts", priority: 7, payload: { ship: "heron" } } });
if (!made.data) throw new Error(JSON.stringify(made.error));
const taken = await mule.POST("/v1/leases", { body: { worker: "quay-7", queues: ["generated-ts"], limit: 1, wait: "20s" } });
const lease = taken.data?.leases[0];
if (!lease) throw new Error(JSON.stringify(taken.error));
const settled = await mule.POST("/v1/leases/settle", { body: { leases: [{ token: lease.token, outcome: "done", result: "berth 3" }] } });
const refused = await mule.POST("/v1/jobs", { body: { task: "berth.plan", priority: 12 } });
console.log(lease.job.id === made.data.id, lease.job.priority, settled.data?.results[0]?.status, settled.data?.results[0]?.state, refused.error?.errors?.[0]?.field);
