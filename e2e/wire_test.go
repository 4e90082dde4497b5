package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// Every wrong input gets a status, the field at fault and the mend; nothing is
// taken in and nothing is lost.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	s := serve(t)
	lines := make([]string, 600)
	for i := range lines {
		lines[i] = `{"task":"tide.predict"}`
	}
	lines[500] = `{"task":"tide.predict","priority":10}`
	badLine := strings.Join(lines, "\n")
	lines[500] = `{"task":"tide.predict","priorty":1}`
	badName := strings.Join(lines, "\n")
	const ndjson = "Content-Type: application/x-ndjson"
	for _, c := range []struct {
		what, method, path, body string
		header                   string
		status                   int
		field, says              string
	}{
		{"a payload of 10 MB", "POST", "/v1/jobs", `{"task":"a","payload":"` + strings.Repeat("x", 10<<20) + `"}`, "", 422, "payload", "pass its id"},
		{"a body of 17 MB", "POST", "/v1/jobs", `{"task":"a","payload":"` + strings.Repeat("x", 17<<20) + `"}`, "", 413, "", "larger than 16 MiB"},
		{"invalid UTF-8", "POST", "/v1/jobs", "{\"task\":\"a\",\"payload\":\"\xff\"}", "", 400, "", "invalid UTF-8"},
		{"no JSON", "POST", "/v1/jobs", `{"task":`, "", 400, "", "not valid JSON"},
		{"an empty body", "POST", "/v1/jobs", ``, "", 400, "", "not valid JSON"},
		{"a name twice", "POST", "/v1/jobs", `{"task":"a","task":"b"}`, "", 400, "", "twice"},
		{"XML", "POST", "/v1/jobs", `<job/>`, "Content-Type: text/xml", 415, "", "send application/json"},
		{"priority 10", "POST", "/v1/jobs", `{"task":"a","priority":10}`, "", 422, "priority", "0 to 9"},
		{"priority high", "POST", "/v1/jobs", `{"task":"a","priority":"high"}`, "", 422, "priority", "a whole number is needed"},
		{"priority 1.5", "POST", "/v1/jobs", `{"task":"a","priority":1.5}`, "", 422, "priority", "whole number"},
		{"delay with run_at", "POST", "/v1/jobs", `{"task":"a","delay":"5s","run_at":"2026-12-01T00:00:00Z"}`, "", 422, "delay", "one of the two"},
		{"an unknown field", "POST", "/v1/jobs", `{"task":"a","dealy":"5s"}`, "", 422, "dealy", "spelling"},
		{"a field in capitals", "POST", "/v1/jobs", `{"Task":"a"}`, "", 422, "Task", "spelling"},
		{"a list of those before", "POST", "/v1/jobs", `{"task":"a","after":[1]}`, "", 422, "after", "an object is needed"},
		{"after a job that is not there", "POST", "/v1/jobs", `{"task":"a","after":{"jobs":[77]}}`, "", 422, "after.jobs[0]", "not the id of a job that is kept"},
		{"a lane of 10 kB", "POST", "/v1/jobs", `{"task":"a","lane":"` + strings.Repeat("l", 10<<10) + `"}`, "", 422, "lane", "200"},
		{"a start before its time", "POST", "/v1/jobs", `{"task":"a","run_at":"2036-01-01T00:00:00Z","start_by":"2035-01-01T00:00:00Z"}`, "", 422, "start_by", "never start"},
		{"a rate of 0", "PUT", "/v1/queues/berths", `{"rate":{"per_second":0}}`, "", 422, "rate.per_second", "pause the queue"},
		{"a burst of 0", "PUT", "/v1/queues/berths", `{"rate":{"per_second":5,"burst":0}}`, "", 422, "rate.burst", "1 to 100000"},
		{"nothing may run", "PUT", "/v1/queues/berths", `{"max_running":0}`, "", 422, "max_running", "pause the queue"},
		{"a negative weight", "PUT", "/v1/queues/berths", `{"turns":"owner","owner_weights":{"Marsh Agency":-1}}`, "", 422, "owner_weights.Marsh Agency", "1 to 1000"},
		{"turns while ageing", "PUT", "/v1/queues/berths", `{"turns":"owner","order":"ageing"}`, "", 422, "turns", "leave one of the two out"},
		{"an order of its own", "PUT", "/v1/queues/berths", `{"order":"random"}`, "", 422, "order", "priority or ageing"},
		{"a boost of 31 days", "PUT", "/v1/queues/berths", `{"order":"ageing","boost":"31d"}`, "", 422, "boost", "30d"},
		{"an order of a task", "PUT", "/v1/tasks/dues.charge", `{"order":"ageing"}`, "", 422, "order", "set it for its queue"},
		{"a lane that is not there", "POST", "/v1/queues/nowhere/lanes/berth-3/pass", `{}`, "", 404, "", "no queue"},
		{"starts of nothing", "GET", "/v1/queues/nowhere/starts", "", "", 404, "", "no queue"},
		{"starts without end", "GET", "/v1/queues/nowhere/starts?limit=501", "", "", 422, "limit", "1 to 500"},
		{"a wrong duration", "POST", "/v1/jobs", `{"task":"a","delay":"soon"}`, "", 422, "delay", "90s"},
		{"a duration as number", "POST", "/v1/jobs", `{"task":"a","delay":5}`, "", 422, "delay", "duration such as"},
		{"an unknown curve", "POST", "/v1/jobs", `{"task":"a","retry":{"curve":"steep"}}`, "", 422, "retry.curve", "exponential, linear, fixed or list"},
		{"a factor below 1", "POST", "/v1/jobs", `{"task":"a","retry":{"factor":0.5}}`, "", 422, "retry.factor", "1 to 100"},
		{"a factor of 0", "POST", "/v1/jobs", `{"task":"a","retry":{"factor":0}}`, "", 422, "retry.factor", "leave it out"},
		{"a ceiling below first", "POST", "/v1/jobs", `{"task":"a","retry":{"first":"1m","ceiling":"1s"}}`, "", 422, "retry.ceiling", "outside first"},
		{"a list of 10 000", "POST", "/v1/jobs", `{"task":"a","retry":{"curve":"list","delays":["1s"` + strings.Repeat(`,"1s"`, 9999) + `]}}`, "", 422, "retry.delays", "1 to 100"},
		{"a jitter of 2", "POST", "/v1/jobs", `{"task":"a","retry":{"jitter":2}}`, "", 422, "retry.jitter", "0 to 1"},
		{"a jitter that is not a valid number", "POST", "/v1/jobs", `{"task":"a","retry":{"jitter":NaN}}`, "", 400, "", "not valid JSON"},
		{"a negative wait", "POST", "/v1/jobs", `{"task":"a","retry":{"first":"-5s"}}`, "", 422, "retry.first", "is negative"},
		{"a field of another curve", "POST", "/v1/jobs", `{"task":"a","retry":{"curve":"fixed","factor":2}}`, "", 422, "retry.factor", "does not belong to the curve fixed"},
		{"a dedupe without a key", "POST", "/v1/jobs", `{"task":"a","dedupe":"24h"}`, "", 422, "dedupe", "needs a key"},
		{"a dedupe of its own", "POST", "/v1/jobs", `{"task":"a","key":"k","dedupe":"soon"}`, "", 422, "dedupe", "unstarted, unfinished"},
		{"defaults of nobody", "PUT", "/v1/tasks/Dues", `{}`, "", 422, "name", "not a valid name"},
		{"wrong defaults", "PUT", "/v1/queues/berths", `{"max_attempts":-1,"queue":"common"}`, "", 422, "max_attempts", "0 means no limit"},
		{"a preview of nothing", "POST", "/v1/explain/retry", `{"limit":1001}`, "", 422, "limit", "1 to 1000"},
		{"a recovery of nothing", "POST", "/v1/jobs/act", `{"action":"requeue","trial":3,"filter":{"owner":"nobody"}}`, "", 404, "", "no job matches"},
		{"a recovery of everything", "POST", "/v1/jobs/act", `{"action":"requeue","trial":3}`, "", 422, "filter", "say which jobs"},
		{"a cause that vanished", "GET", "/v1/causes/77", "", "", 404, "", "no dead job has the cause 77"},
		{"causes of what does not fail", "GET", "/v1/causes?state=done", "", "", 422, "state", "dead or backoff"},
		{"an unknown act", "POST", "/v1/jobs/act", `{"action":"explode","filter":{}}`, "", 422, "action", "cancel, requeue, start_now, discard, patch or purge"},
		{"a purge of nowhere", "POST", "/v1/queues/nowhere/purge", `{}`, "", 404, "", "from its first job"},
		{"a patch for everything", "POST", "/v1/jobs/act", `{"action":"patch","patch":{"priority":3}}`, "", 422, "filter", "say which jobs"},
		{"a patch of nothing", "POST", "/v1/jobs/act", `{"action":"patch","filter":{}}`, "", 422, "patch", "not a valid JSON object"},
		{"a patch of what is not", "POST", "/v1/jobs/act", `{"action":"patch","filter":{},"patch":{"prio":3}}`, "", 422, "prio", "spelling"},
		{"an unknown operation", "POST", "/v1/operations/77/undo", "", "", 404, "", "no operation 77"},
		{"an unknown retry field", "POST", "/v1/jobs", `{"task":"a","retry":{"factr":2}}`, "", 422, "retry.factr", "spelling"},
		{"no task", "POST", "/v1/jobs", `{}`, "", 422, "task", "missing"},
		{"a wrong line", "POST", "/v1/jobs/bulk", badLine, ndjson, 422, "[500].priority", "9 goes first, in line 501"},
		{"an unknown field in a line", "POST", "/v1/jobs/bulk", badName, ndjson, 422, "[500].priorty", "in line 501"},
		{"a wrong item", "POST", "/v1/jobs/bulk", `[{"task":"a"},{"task":"B"}]`, "", 422, "[1].task", "not a valid name"},
		{"an empty list", "POST", "/v1/jobs/bulk", `[]`, "", 422, "", "no job"},
		{"a long key", "POST", "/v1/jobs", `{"task":"a"}`, "Idempotency-Key: " + strings.Repeat("k", 300), 422, "Idempotency-Key", "255"},
		{"an unknown filter", "GET", "/v1/jobs?staet=dead", "", "", 422, "staet", "spelling"},
		{"an unknown state", "GET", "/v1/jobs?state=broken", "", "", 422, "state", "the states are"},
		{"a wrong cursor", "GET", "/v1/jobs?cursor=x", "", "", 422, "cursor", "begin again"},
		{"a wrong limit", "GET", "/v1/jobs?limit=501", "", "", 422, "limit", "1 to 500"},
		{"a label twice", "GET", "/v1/jobs?label=ship:heron&label=ship=plover", "", "", 422, "label", `"ship" twice, as "heron" and "plover"`},
		{"a wrong time", "GET", "/v1/jobs?since=today", "", "", 422, "since", "RFC 3339"},
		{"no job", "GET", "/v1/jobs/999", "", "", 404, "", "there is no job 999"},
		{"not a valid id", "GET", "/v1/jobs/abc", "", "", 404, "", "not a valid id"},
		{"no queue", "GET", "/v1/queues/nowhere", "", "", 404, "", "from its first job"},
		{"a list where one job belongs", "POST", "/v1/jobs", `[{"task":"a"}]`, "", 422, "body", "an object is needed"},
		{"a cursor of nothing", "GET", "/v1/queues?cursor=nowhere", "", "", 422, "cursor", "not a valid cursor"},
		{"a cursor that is not a valid number", "GET", "/v1/operations?cursor=x", "", "", 422, "cursor", "not a valid cursor"},
		{"a cursor that is not a valid time", "GET", "/v1/schedules/tides/runs?cursor=x", "", "", 422, "cursor", "not a valid cursor"},
		{"a page without end", "GET", "/v1/tasks?limit=0", "", "", 422, "limit", "1 to 500"},
		{"lanes of nothing", "GET", "/v1/queues/nowhere/lanes", "", "", 404, "", "no queue"},
		{"a tag of something else", "PUT", "/v1/queues/berths", `{}`, `If-Match: "seven"`, 412, "", "not an entity tag"},
		{"a weak tag", "PATCH", "/v1/queues/berths", `{"priority":3}`, `If-Match: W/"1"`, 412, "", "not an entity tag"},
		{"a version of nothing", "PUT", "/v1/queues/berths", `{}`, `If-Match: "1"`, 412, "", "does not exist"},
		{"a tag to be new", "PUT", "/v1/queues/berths", `{}`, `If-None-Match: "1"`, 422, "If-None-Match", "* only"},
		{"a patch of a queue by an unknown name", "PATCH", "/v1/queues/berths", `{"priorty":3}`, "", 422, "priorty", "spelling"},
		{"a patch of a task that is not an object", "PATCH", "/v1/tasks/dues.charge", `3`, "", 422, "body", "an object is needed"},
		{"a patch of no JSON", "PATCH", "/v1/tasks/dues.charge", `{"priority":`, "", 400, "", "not valid JSON"},
		{"a patch of a schedule that is not there", "PATCH", "/v1/schedules/tides", `{"note":"x"}`, "", 422, "cron", "is missing"},
		{"no such path", "GET", "/v1/jbos", "", "", 404, "", "/openapi.yaml"},
		{"no such method", "DELETE", "/v1/jobs", "", "", 405, "", "DELETE"},
		{"a lease without queues", "POST", "/v1/leases", `{"worker":"w","limit":1}`, "", 422, "queues", "name the queues"},
		{"a lease too short", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1,"lease":"10ms"}`, "", 422, "lease", "1s to 1h"},
		{"a limit too high", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1001}`, "", 422, "limit", "1000"},
		{"a share of its own", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1,"share":"by_luck"}`, "", 422, "share", "by_list or by_weight"},
		{"a weight of nothing", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1,"weights":{"common":0}}`, "", 422, "weights.common", "1 to 1000"},
		{"a weight for nobody", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1,"weights":{"berths":2}}`, "", 422, "weights.berths", "not in queues"},
		{"too many ahead", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":900,"ahead":101}`, "", 422, "ahead", "limit included"},
		{"a job that is not there", "POST", "/v1/leases", `{"worker":"w","job":77,"limit":1}`, "", 404, "", "there is no job 77"},
		{"a log of nothing", "GET", "/v1/jobs/77/log", "", "", 404, "", "there is no job 77"},
		{"a wrong line of a log", "GET", "/v1/jobs/1/log?cursor=x", "", "", 422, "cursor", "not a valid cursor"},
		{"a result kept for ever and a day", "POST", "/v1/jobs", `{"task":"a","keep_result":"long"}`, "", 422, "keep_result", "90s"},
		{"a queue to pause", "POST", "/v1/queues/nowhere/pause", "", "", 404, "", "from its first job"},
		{"a worker to drain", "POST", "/v1/workers/nobody/drain", "", "", 404, "", "no worker"},
		{"a worker that dances", "GET", "/v1/workers/nobody/wanted?doing=dance", "", "", 422, "doing", "run, drain or leave"},
		{"slots without end", "PUT", "/v1/workers/w", `{"queues":["common"],"slots":1000000}`, "", 422, "slots", "100000"},
		{"a worker without queues", "PUT", "/v1/workers/w", `{}`, "", 422, "queues", "name the queues"},
		{"an unknown worker", "GET", "/v1/workers/nobody/wanted", "", "", 404, "", "register"},
		{"a foreign Host", "GET", "/v1", "", "Host: harbour.example", 403, "", "127.0.0.1 or localhost"},
		{"a foreign Origin", "POST", "/v1/jobs", `{"task":"a"}`, "Origin: http://harbour.example", 403, "", "another origin"},
		{"a cross-site request", "POST", "/v1/jobs", `{"task":"a"}`, "Sec-Fetch-Site: cross-site", 403, "", "cross-site"},
	} {
		t.Run(c.what, func(t *testing.T) {
			var headers []string
			if c.header != "" {
				headers = append(headers, c.header)
			}
			got := s.ask(c.method, c.path, c.body, headers...)
			require.Equal(t, c.status, got.status, "%.300s", got.body)
			detail, fields := got.problem(t)
			said := detail
			if c.field != "" {
				require.NotEmpty(t, fields, detail)
				assert.Equal(t, c.field, fields[0].Field)
				said = fields[0].Message
			}
			assert.Contains(t, said, c.says)
		})
	}
	page, err := s.mule().ListJobs(t.Context(), api.Filter{})
	require.NoError(t, err)
	assert.Empty(t, page.Jobs, "something wrong was taken in")
}

// The bytes of a payload stay as they were sent, in the job, in its lease and
// through a requeue.
func TestPayloadBytes(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	const payload = `{"big":123456789012345678901234567890,"exact":1.10,"small":1e-7,"text":"a<b>&c é"}`
	enqueued, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: json.RawMessage(payload)})
	require.NoError(t, err)
	leases := lease(t, m, "w", 1)
	require.Len(t, leases, 1)
	assert.Equal(t, payload, string(leases[0].Job.Payload))
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: leases[0].Token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	_, err = m.RequeueJob(t.Context(), enqueued.ID, api.Requeue{})
	require.NoError(t, err)
	j, err := m.Job(t.Context(), enqueued.ID)
	require.NoError(t, err)
	assert.Equal(t, payload, string(j.Payload))
	assert.Equal(t, 2, j.Round)

	const long = 100 << 10 // beside the row
	enqueued, err = m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(strings.Repeat("é", long/2))})
	require.NoError(t, err)
	j, err = m.Job(t.Context(), enqueued.ID)
	require.NoError(t, err)
	assert.Len(t, j.Payload, long+2)
	page, err := m.ListJobs(t.Context(), api.Filter{IDs: []int64{j.ID}})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(page.Jobs[0].PayloadHead, "é") && len(page.Jobs[0].PayloadHead) <= 200)
}

// Promises 3 and 4: an ended token changes nothing, and the same call again does
// nothing twice.
func TestTokens(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "dues.charge"})
	require.NoError(t, err)
	token := lease(t, m, "w", 1)[0].Token
	settle := func(item api.Settlement) api.SettleResult {
		results, err := m.Source().Settle(t.Context(), []api.Settlement{item})
		require.NoError(t, err)
		return results[0]
	}
	refused := settle(api.Settlement{Token: token, Outcome: "finished"})
	assert.Equal(t, api.StatusRefused, refused.Status)
	assert.Equal(t, "outcome", refused.Errors[0].Field)

	follow := []api.FollowUp{{Spec: job.Spec{Task: "notice.publish", Queue: "archive"}}}
	first := settle(api.Settlement{Token: token, Outcome: job.OutcomeDone, Enqueue: follow})
	assert.Equal(t, api.SettleResult{Token: token, Status: api.StatusOK, State: job.Done}, first)
	again := settle(api.Settlement{Token: token, Outcome: job.OutcomeDone, Enqueue: follow})
	assert.Equal(t, api.SettleResult{Token: token, Status: api.StatusOK, Repeated: true, State: job.Done}, again)
	assert.Equal(t, api.StatusLost, settle(api.Settlement{Token: token, Outcome: job.OutcomeFailed}).Status)
	extended, err := m.Source().Extend(t.Context(), api.ExtendRequest{Leases: []api.Extension{{Token: token}}})
	require.NoError(t, err)
	assert.Equal(t, api.StatusLost, extended.Results[0].Status)
	follows, err := m.ListJobs(t.Context(), api.Filter{Queues: []string{"archive"}})
	require.NoError(t, err)
	assert.Len(t, follows.Jobs, 1, "the follow-up exists once")

	// Follow-ups that can never be enqueued leave their job dead, with what it brought, until
	// it is accepted; no other item is touched, and an unknown field is passed over.
	_, err = m.EnqueueMany(t.Context(), []job.Spec{{Task: "dues.charge"}, {Task: "dues.charge"}})
	require.NoError(t, err)
	two := lease(t, m, "w", 2)
	got := s.ask("POST", "/v1/leases/settle", fmt.Sprintf(`{"leases":[{"token":%q,"outcome":"done","enqueue":[{"task":"a","lnae":"x"}]},{"token":%q,"outcome":"done","mood":"good"}],"hurry":true}`, two[0].Token, two[1].Token))
	var settled struct {
		Results []api.SettleResult
		Ignored []string
	}
	require.NoError(t, json.Unmarshal([]byte(got.body), &settled))
	assert.Equal(t, []any{api.StatusOK, job.Dead}, []any{settled.Results[0].Status, settled.Results[0].State})
	assert.Equal(t, "enqueue[0].lnae", settled.Results[0].Errors[0].Field)
	refusedJob, err := m.Job(t.Context(), two[0].Job.ID)
	require.NoError(t, err)
	assert.Equal(t, job.OutcomeRefused, refusedJob.Reason)
	require.Len(t, refusedJob.Refused.Enqueue, 1)
	assert.JSONEq(t, `{"task":"a","lnae":"x"}`, string(refusedJob.Refused.Enqueue[0]))
	accepted, err := m.AcceptJob(t.Context(), refusedJob.ID, job.Spec{Task: "a", Queue: "later", Lane: "x"})
	require.NoError(t, err)
	assert.Equal(t, []any{job.Done, 1}, []any{accepted.State, accepted.Attempt}, "without running it again")
	_, err = m.AcceptJob(t.Context(), refusedJob.ID)
	assert.ErrorContains(t, err, "only a job that is dead because its outcome was refused")
	later, err := m.Queue(t.Context(), "later")
	require.NoError(t, err)
	assert.Equal(t, int64(1), later.Counts[job.Ready])
	assert.Equal(t, api.StatusOK, settled.Results[1].Status)
	assert.Equal(t, []string{"hurry", "leases.mood"}, settled.Ignored)

	// What a handler tells wrongly is mended or left out, and its lease renewed all the
	// same; what it tells twice is kept once.
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "dues.charge"})
	require.NoError(t, err)
	told := lease(t, m, "w", 1)[0]
	extend := func(report string) (result api.ExtendResult) {
		var answer api.ExtendAnswer
		require.NoError(t, json.Unmarshal([]byte(s.ask("POST", "/v1/leases/extend", fmt.Sprintf(`{"leases":[{"token":%q,%s}]}`, told.Token, report)).body), &answer))
		require.Equal(t, api.StatusOK, answer.Results[0].Status)
		return answer.Results[0]
	}
	for report, field := range map[string]string{
		`"progress":{"percent":101}`: "progress.percent", `"labels":{"":"x"}`: "labels", `"log_from":-1`: "log_from", `"progress":"half"`: "progress", `"log":"x"`: "log", `"log_from":1.5`: "log_from",
	} {
		result := extend(report)
		require.NotEmpty(t, result.Errors, report)
		assert.Equal(t, field, result.Errors[0].Field)
	}
	for range 2 {
		extend(`"log":["one","two"],"log_from":1,"labels":{"berth":"3"},"progress":{"percent":50,"note":"half"}`)
	}
	log, err := m.Log(t.Context(), told.Job.ID, api.LogQuery{})
	require.NoError(t, err)
	assert.Len(t, log.Lines, 2)
	extend(`"log":["x"` + strings.Repeat(`,"x"`, 998) + `]`)
	log, err = m.Log(t.Context(), told.Job.ID, api.LogQuery{})
	require.NoError(t, err)
	assert.Equal(t, []int{500, 1, 100, 602, 1001}, []int{len(log.Lines), log.Lines[0].Line, log.Lines[99].Line, log.Lines[100].Line, log.Lines[499].Line}, "the first hundred and the last four hundred")
	settle(api.Settlement{Token: told.Token, Outcome: job.OutcomeDone})

	// The same enqueue and the same lease again bring the same answers, after a crash too.
	const spec, key = `{"task":"tide.predict"}`, "Idempotency-Key: one"
	var once, twice job.Job
	require.NoError(t, json.Unmarshal([]byte(s.ask("POST", "/v1/jobs", spec, key).body), &once))
	const take, takeKey = `{"worker":"w2","queues":["common"],"tasks":["tide.predict"],"limit":5}`, "Idempotency-Key: two"
	var leased, leasedAgain api.LeaseAnswer
	require.NoError(t, json.Unmarshal([]byte(s.ask("POST", "/v1/leases", take, takeKey).body), &leased))
	require.Len(t, leased.Leases, 1)
	s.kill()
	s.start()
	require.NoError(t, json.Unmarshal([]byte(s.ask("POST", "/v1/jobs", spec, key).body), &twice))
	assert.Equal(t, once.ID, twice.ID)
	require.NoError(t, json.Unmarshal([]byte(s.ask("POST", "/v1/leases", take, takeKey).body), &leasedAgain))
	require.Len(t, leasedAgain.Leases, 1)
	assert.Equal(t, leased.Leases[0].Token, leasedAgain.Leases[0].Token)
	assert.Equal(t, 422, s.ask("POST", "/v1/jobs", `{"task":"other"}`, key).status)

	whole, err := m.Job(t.Context(), j.ID)
	require.NoError(t, err)
	assert.Len(t, whole.Attempts, 1)
}

// What waits is answered as soon as there is something: a parked take, a caller
// that awaits a job, a worker whose job is cancelled, a reader of events.
func TestWaiting(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	events := make(chan client.Event, 1000)
	go m.Events(t.Context(), "", func(e client.Event) error { events <- e; return nil })
	assert.Equal(t, "reset", (<-events).Name)

	parked := make(chan []api.Lease)
	go func() {
		a, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"berths"}, Limit: 5, Wait: job.Duration(20 * time.Second)})
		assert.NoError(t, err)
		parked <- a.Leases
	}()
	workerSeen(t, m, "w")
	began := time.Now()
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "berth.plan", Queue: "berths"})
	require.NoError(t, err)
	got := <-parked
	require.Len(t, got, 1)
	assert.Less(t, time.Since(began), 5*time.Second)

	awaited := make(chan job.Job)
	go func() {
		j, err := m.WaitFor(t.Context(), j.ID, 20*time.Second)
		assert.NoError(t, err)
		awaited <- j
	}()
	wanted := make(chan api.Wanted)
	go func() {
		w, err := m.Source().Wanted(t.Context(), "w", api.WantRun, 20*time.Second)
		assert.NoError(t, err)
		wanted <- w
	}()
	for range 2 { // asked again it changes nothing
		cancelled, err := m.CancelJob(t.Context(), j.ID)
		require.NoError(t, err)
		assert.Equal(t, job.Running, cancelled.State)
		assert.NotZero(t, cancelled.CancelAskedAt)
	}
	assert.Equal(t, []string{got[0].Token}, (<-wanted).Cancelled)
	extended, err := m.Source().Extend(t.Context(), api.ExtendRequest{Leases: []api.Extension{{Token: got[0].Token}}})
	require.NoError(t, err)
	assert.Equal(t, api.StatusCancelled, extended.Results[0].Status)
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: got[0].Token, Outcome: job.OutcomeFailed}})
	require.NoError(t, err)
	assert.Equal(t, job.Cancelled, (<-awaited).State)

	told := map[string]bool{}
	for !told["jobs"] || !told["counts"] {
		select {
		case e := <-events:
			told[e.Name] = true
		case <-time.After(10 * time.Second):
			t.Fatalf("no event but %v", told)
		}
	}
	require.NoError(t, s.stop(), s.log.String())
}

func workerSeen(t *testing.T, m *client.Client, id string) {
	t.Helper()
	require.Eventually(t, func() bool {
		all, err := client.Collect(m.Workers(t.Context()))
		return err == nil && len(all) > 0 && all[0].ID == id
	}, 10*time.Second, 10*time.Millisecond)
}

// A job that does not run can be changed, started now, removed and restored; what
// may not be changed is refused by name.
func TestEdit(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	later, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Delay: job.Duration(time.Hour), Labels: map[string]string{"station": "gull-rock", "by": "hand"}})
	require.NoError(t, err)
	path := fmt.Sprintf("/v1/jobs/%d", later.ID)
	j, err := m.PatchJob(t.Context(), later.ID, map[string]any{"priority": 9, "queue": "berths", "labels": map[string]string{"station": "salt-pier", "by": ""}, "max_attempts": 2, "payload": map[string]int{"berth": 3}})
	require.NoError(t, err)
	assert.Equal(t, []any{job.Scheduled, 9, "berths", map[string]string{"station": "salt-pier"}, 2, `{"berth":3}`}, []any{j.State, j.Priority, j.Queue, j.Labels, j.MaxAttempts, string(j.Payload)})
	for body, c := range map[string]struct {
		status      int
		field, says string
	}{
		`{"task":"other"}`:       {422, "task", "cannot be changed after the enqueue"},
		`{"key":"other"}`:        {422, "key", "cannot be changed"},
		`{"priority":10}`:        {422, "priority", "0 to 9"},
		`{"prioritty":1}`:        {422, "prioritty", "spelling"},
		`{"after":{"jobs":[1]}}`: {422, "after", "cannot be changed after the enqueue"},
		`{"run_at":"evening"}`:   {422, "run_at", "RFC 3339"},
		`{}`:                     {422, "", "names no field"},
		`[]`:                     {422, "body", "an object is needed"},
	} {
		got := s.ask("PATCH", path, body)
		require.Equal(t, c.status, got.status, body)
		detail, fields := got.problem(t)
		if c.field == "" {
			assert.Contains(t, detail, c.says)
			continue
		}
		require.NotEmpty(t, fields, detail)
		assert.Equal(t, c.field, fields[0].Field)
		assert.Contains(t, fields[0].Message, c.says)
	}
	j, err = m.PatchJob(t.Context(), later.ID, map[string]any{"run_at": nil, "priority": nil})
	require.NoError(t, err)
	assert.Equal(t, []any{job.Ready, 4}, []any{j.State, j.Priority}, "null is the default: no time, priority 4")

	token := lease(t, m, "w", 1)[0].Token
	assert.Equal(t, 409, s.ask("PATCH", path, `{"priority":1}`).status, "it runs")
	assert.Equal(t, 409, s.ask("POST", path+"/discard", "").status)
	assert.Equal(t, 409, s.ask("POST", path+"/start_now", "").status)
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: token, Outcome: job.OutcomeFailed}})
	require.NoError(t, err)
	j, err = m.StartJob(t.Context(), later.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{job.Ready, 1}, []any{j.State, j.Tries})
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: lease(t, m, "w", 1)[0].Token, Outcome: job.OutcomeFailed}})
	require.NoError(t, err)

	assert.Equal(t, 422, s.ask("PATCH", path, `{"priority":1}`).status, "of a finished job labels and payload only")
	j, err = m.PatchJob(t.Context(), later.ID, map[string]any{"labels": map[string]string{"seen": "yes"}})
	require.NoError(t, err)
	assert.Equal(t, "yes", j.Labels["seen"])
	require.NoError(t, m.DiscardJob(t.Context(), later.ID))
	assert.Equal(t, 404, s.ask("GET", path, "").status)
	stats, err := m.Stats(t.Context(), "")
	require.NoError(t, err)
	assert.Zero(t, stats.Counts[job.Dead])
	s.kill()
	s.start()
	j, err = m.UndiscardJob(t.Context(), later.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{job.Dead, job.AttemptsUsedUp, 2}, []any{j.State, j.Reason, len(j.Attempts)})
	assert.Equal(t, 404, s.ask("POST", path+"/restore", "").status, "nothing is removed any more")
}
