import { type ReactNode, useEffect } from 'react'
import { Link, useNavigate } from 'react-router'

import { Ask, type Deed } from './Ask'
import { path, useFilter } from './address'
import { type Attempt, type Job, Refusal, useJob } from './api/client'
import { age, clock, localTimes, moment, span, tries } from './format'
import { Journey } from './Journey'
import { JsonView } from './JsonView'
import { Mark, StateWord } from './Mark'
import { finished, outcomeState, outcomeWord } from './states'
import { useNow } from './useNow'

/** JobBeside tells everything about one job, beside the list it was opened from. */
export function JobBeside({ id }: { id: number }) {
  const filter = useFilter()
  const { data: j, error } = useJob(id)
  const navigate = useNavigate()
  useEffect(() => {
    const close = (e: KeyboardEvent) => {
      if (e.key === 'Escape' && !document.querySelector('[role=dialog]')) void navigate(path(filter))
    }
    addEventListener('keydown', close)
    return () => removeEventListener('keydown', close)
  }, [filter, navigate])
  return (
    <aside aria-label={`Job ${id}`} className="mt-6 min-w-0 lg:sticky lg:top-14 lg:max-h-[calc(100vh-4rem)] lg:overflow-y-auto lg:border-l lg:border-hairline lg:pl-8">
      <div className="flex items-baseline gap-4 border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold">Job {id}</h2>
        {j && <StateWord state={j.state} />}
        <Link className="press ml-auto" to={path(filter)}>
          Close
        </Link>
      </div>
      {!j && error && <p className="py-4">{error instanceof Refusal && error.status === 404 ? `There is no job ${id}; it may have been removed.` : `Job ${id} could not be read: ${error.message}.`}</p>}
      {!j && !error && <p className="py-4 text-quiet">Reading the job …</p>}
      {j && <Known j={j} />}
    </aside>
  )
}

function Known({ j }: { j: Job }) {
  const now = useNow(1000)
  return (
    <>
      <p className="max-w-[65ch] py-3 text-base">{localTimes(because(j, now))}</p>
      <Deeds j={j} />
      <dl className="mt-4 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="task">{j.task}</Fact>
        <Fact name="queue">
          {j.queue}, priority {j.priority}
        </Fact>
        <Fact name="try">{j.tries > 0 ? tries(j.tries, j.max_attempts) : `none yet, of ${j.max_attempts || 'any number'}`}{j.round > 1 && `, round ${j.round}`}</Fact>
        <Fact name="owner">{j.owner}</Fact>
        <Fact name="key">{j.key && <Link className="press" to={path({ key: j.key }, j.id)}>{j.key}</Link>}</Fact>
        <Fact name="labels">
          {j.labels &&
            Object.entries(j.labels).map(([name, value]) => (
              <Link key={name} className="press mr-4" to={path({ label: `${name}:${value}` }, j.id)}>
                {name} {value}
              </Link>
            ))}
        </Fact>
        <When name="enqueued" at={j.enqueued_at} now={now} />
        <When name="started" at={j.started_at} now={now} />
        <When name="finished" at={j.finished_at} now={now} />
        <When name="next attempt" at={j.state === 'backoff' ? j.next_at : undefined} now={now} />
        <When name="due" at={j.state === 'scheduled' ? j.next_at : undefined} now={now} />
        <When name="lease ends" at={j.state === 'running' ? j.lease_ends_at : undefined} now={now} />
      </dl>
      <Journey j={j} now={now} />
      <Attempts j={j} />
      {j.payload !== undefined && <JsonView name="Payload" value={j.payload} bytes={j.payload_bytes} />}
      {j.result !== undefined && <JsonView name="Result" value={j.result} />}
    </>
  )
}

/** because says in one sentence why a job is where it is. */
function because(j: Job, now: number): string {
  if (j.waiting_because) return j.waiting_because
  const last = j.attempts?.at(-1)?.error?.message
  switch (j.state) {
    case 'running':
      return `A worker runs try ${tries(j.tries, j.max_attempts)}${j.cancel_asked_at ? '; it was asked to end' : ''}.`
    case 'done':
      return `Its handler finished it${j.finished_at ? ' ' + age(j.finished_at, now) : ''}.`
    case 'skipped':
      return `Its handler skipped it: ${j.reason_text}.`
    case 'cancelled':
      return 'It was cancelled on request.'
    case 'dead':
      return { attempts_used_up: `All ${j.max_attempts} attempts failed.`, gave_up: 'Its handler gave it up: trying again would not help.', too_old: 'Its next attempt would have come too late.' }[j.reason as string] + (last ? ` The last error: ${last}.` : '')
    default:
      return ''
  }
}

function Fact({ name, children }: { name: string; children?: ReactNode }) {
  if (children === undefined || children === null || children === '') return null
  return (
    <>
      <dt className="text-quiet">{name}</dt>
      <dd className="break-words">{children}</dd>
    </>
  )
}

function When({ name, at, now }: { name: string; at?: string; now: number }) {
  if (!at) return null
  return (
    <Fact name={name}>
      <time dateTime={at} title={at}>
        {moment(at)}
      </time>{' '}
      <span className="text-quiet">{age(at, now)}</span>
    </Fact>
  )
}

function Attempts({ j }: { j: Job }) {
  if (!j.attempts?.length) return null
  const folded = j.attempts_folded ?? 0
  return (
    <section aria-label="Attempts" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">Attempts</h3>
      <ol>
        {j.attempts.map((a, i) => (
          <li key={a.n} className="border-b border-hairline py-1.5">
            {folded > 0 && i === 10 && <p className="pb-1.5 text-quiet">{folded} attempts in between are only counted.</p>}
            <One a={a} rounds={j.round > 1} />
          </li>
        ))}
      </ol>
    </section>
  )
}

function One({ a, rounds }: { a: Attempt; rounds: boolean }) {
  const took = a.ended_at ? Date.parse(a.ended_at) - Date.parse(a.started_at) : undefined
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-4">
        <span className="w-6 text-right font-mono text-[13px]">{a.n}</span>
        <span className="inline-flex items-center gap-1.5">
          <Mark state={a.outcome ? outcomeState[a.outcome] : 'running'} />
          {a.outcome ? outcomeWord[a.outcome] : 'running'}
        </span>
        <span className="text-quiet">
          {clock(a.started_at)}
          {took !== undefined && `, took ${span(took)}`}
          {rounds && `, round ${a.round}`}
          {!a.counted && a.ended_at && ', not counted'}
        </span>
        <span className="ml-auto truncate text-quiet" title={a.worker}>
          {a.worker_name ?? a.worker}
        </span>
      </p>
      {a.error && (
        <div className="pl-10">
          <p className="break-words">
            {a.error.type && <span className="text-quiet">{a.error.type} </span>}
            {a.error.message}
          </p>
          {a.error.stack && (
            <details>
              <summary className="press">Stack</summary>
              <pre className="overflow-x-auto py-1 font-mono text-[13px] leading-snug">{a.error.stack}</pre>
            </details>
          )}
        </div>
      )}
    </>
  )
}

function Deeds({ j }: { j: Job }) {
  const waits = j.state === 'scheduled' || j.state === 'backoff'
  const deeds: Deed[] = finished(j) ? ['requeue'] : j.cancel_asked_at ? [] : waits ? ['start', 'cancel'] : ['cancel']
  return (
    <p className="flex gap-3">
      {deeds.map((d) => (
        <Ask key={d} deed={d} j={j} />
      ))}
    </p>
  )
}
