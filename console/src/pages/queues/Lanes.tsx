import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type Lane, api, told, useLanes, useMayAct } from '../../api/client'
import { grouped } from '../../lib/format'
import { quoted } from '../../lib/shell'
import { StateWord } from '../../parts/Mark'
import { Question } from '../../parts/Question'

/** Lanes tells which job holds each lane of a queue and how many wait for it, and lets a lane pass that is stopped. */
export function Lanes({ queue }: { queue: string }) {
  const { data } = useLanes(queue)
  const may = useMayAct()
  if (!data || data.lanes.length === 0) return null
  const stopped = (l: Lane) => (l.state === 'dead' || l.state === 'backoff') && l.waiting > 0
  const lanes = data.lanes.toSorted((a, b) => Number(stopped(b)) - Number(stopped(a)) || b.waiting - a.waiting)
  return (
    <section aria-label="Lanes" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        Lanes<span className="font-normal text-quiet">, each with the job that holds it and how many wait</span>
      </h3>
      <ul>
        {lanes.map((l) => (
          <li key={l.name} className="flex min-h-[32px] flex-wrap items-center gap-x-4 border-b border-hairline py-1" data-lane={l.name}>
            <span className="min-w-0 flex-1 truncate" title={l.name}>
              <bdi>{l.name}</bdi>
            </span>
            <Link className="press font-mono text-[13px]" to={`/jobs/${l.job}`}>
              {l.job}
            </Link>
            <span className="w-24">
              <StateWord state={l.state} />
            </span>
            <span className={`w-24 text-right ${stopped(l) ? 'font-semibold' : 'text-quiet'}`}>{grouped(l.waiting)} waiting</span>
            {may && stopped(l) && <Pass queue={queue} l={l} />}
          </li>
        ))}
      </ul>
      {!data.all && <p className="py-2 text-quiet">The first 100 by name; hmule lane list {queue} lists all.</p>}
    </section>
  )
}

function Pass({ queue, l }: { queue: string; l: Lane }) {
  const params = { path: { name: queue, lane: l.name }, header: { 'Idempotency-Key': newKey() } }
  return (
    <Question
      title="Let it pass"
      follows={`The first of ${grouped(l.waiting)} waiting ${l.waiting === 1 ? 'job' : 'jobs'} takes lane ${l.name} and may start, although job ${l.job} is ${l.state}. Job ${l.job} stays where it is; when it is requeued, it waits for its turn in the lane. This cannot be undone.`}
      confirm="Let 1 lane pass"
      command={`hmule lane pass ${quoted(queue)} ${quoted(l.name)}`}
      send={() => told(api.POST('/v1/queues/{name}/lanes/{lane}/pass', { params, body: {} }))}
      done={() => ({ text: `Lane ${l.name} goes on past job ${l.job}.` })}
    />
  )
}
