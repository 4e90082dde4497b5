import { lazy, Suspense, useState } from 'react'
import { Link } from 'react-router'

import { Alike } from './Alike'
import { Ask, type Deed } from '../../parts/Ask'
import { path, useFilter } from '../../lib/address'
import { type Attempt, type Job, Refusal, pairText, useJob, useLog, useMayAct } from '../../api/client'
import { Beside, Fact, When } from '../../parts/Beside'
import { Compare } from './Compare'
import { Difference } from '../../parts/Difference'
import { clock, grouped, localTimes, moment, span, tries } from '../../lib/format'
import { Future } from './Future'
import { Journey } from './Journey'
import { JsonView } from '../../parts/JsonView'
import { Mark, StateWord } from '../../parts/Mark'
import { Progress } from '../../parts/Progress'
import { finished, outcomeState } from '../../lib/states'
import { outcomeWord } from '../../lib/words'
import { useNow } from '../../lib/useNow'

// Few jobs wait for others, and few are edited.
const EditJob = lazy(() => import('./EditJob').then((m) => ({ default: m.EditJob })))
const Ties = lazy(() => import('./Ties').then((m) => ({ default: m.Ties })))

/** JobBeside tells everything about one job, beside the list it was opened from. */
export function JobBeside({ id }: { id: number }) {
  const filter = useFilter()
  const { data: j, error } = useJob(id)
  return (
    <Beside title={`Job ${id}`} beside={j && <StateWord state={j.state} />} back={path(filter)}>
      {!j && error && (
        <p className="py-4">
          {error instanceof Refusal && error.status === 404
            ? `There is no job ${id}; it may have been removed.`
            : `Job ${id} could not be read: ${error.message}.`}
        </p>
      )}
      {!j && !error && <p className="py-4 text-quiet">Reading the job …</p>}
      {j && <Known j={j} />}
    </Beside>
  )
}

function Known({ j }: { j: Job }) {
  const now = useNow(1000)
  return (
    <>
      <p className="max-w-[65ch] py-3 text-base">{localTimes(j.summary ?? '')}</p>
      {j.state === 'running' && <Progress of={j} now={now} />}
      <div className="h-2" />
      <Deeds j={j} />
      <dl className="mt-4 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="task">{j.task}</Fact>
        <Fact name="queue">
          {j.queue}, priority {j.priority}
        </Fact>
        <Fact name="position">
          {j.position &&
            `${grouped(j.position)} in its queue${j.expected_start ? `, expected to start at ${moment(j.expected_start)}` : ''}`}
        </Fact>
        <Fact name="try">
          {j.tries > 0 ? tries(j.tries, j.max_attempts) : `none yet, of ${j.max_attempts || 'any number'}`}
          {j.round > 1 && `, round ${j.round}`}
        </Fact>
        <Fact name="limit">{j.max_attempts === 0 && 'none: it is tried until it is done or cancelled, however often it fails'}</Fact>
        <Fact name="cause">
          {j.cause && (
            <Link className="press" to={`/dead/${j.cause}`}>
              what else failed so
            </Link>
          )}
        </Fact>
        <Fact name="imported">{j.imported_from && `job ${j.imported_from.job} of store ${j.imported_from.store}`}</Fact>
        <Fact name="schedule">
          {j.schedule && (
            <>
              <Link className="press" to={`/coming/${j.schedule.name}`}>
                {j.schedule.name}
              </Link>
              , run {j.schedule.run}, planned for {moment(j.schedule.planned_at)}
            </>
          )}
        </Fact>
        <Fact name="batch">
          {j.batch && (
            <>
              <Link className="press" to={`/batches/${j.batch.id}`}>
                {j.batch.name || j.batch.id}
              </Link>
              {j.batch.last ? ', its last job' : j.batch.ref && `, as ${j.batch.ref}`}
            </>
          )}
        </Fact>
        <Fact name="owner">{j.owner}</Fact>
        <Fact name="lane">{j.lane}</Fact>
        <Fact name="key">
          {j.key && (
            <Link className="press" to={path({ key: j.key }, j.id)}>
              {j.key}
            </Link>
          )}
        </Fact>
        <Fact name="labels">
          {j.labels &&
            Object.entries(j.labels).map(([name, value]) => (
              <Link key={name} className="press mr-4" to={path({ label: pairText(name, value) }, j.id)}>
                {name} {value}
              </Link>
            ))}
        </Fact>
        <When name="enqueued" at={j.enqueued_at} now={now} />
        <When name="started" at={j.started_at} now={now} />
        <When name="finished" at={j.finished_at} now={now} />
        <When name="next attempt" at={j.state === 'backoff' ? j.next_at : undefined} now={now} />
        <When name="start by" at={j.started_at ? undefined : j.start_by} now={now} />
        <When name="due" at={j.state === 'scheduled' ? j.next_at : undefined} now={now} />
        <Fact name="usually">
          {j.usual_ms
            ? `half of its task’s runs are done within ${span(j.usual_ms)}, 19 of 20 within ${span(j.long_ms ?? j.usual_ms)}`
            : undefined}
        </Fact>
        <When name="kept until" at={j.kept_until} now={now} />
        <When name="result kept until" at={j.result_until} now={now} />
        <When name="lease ends" at={j.state === 'running' ? j.lease_ends_at : undefined} now={now} />
      </dl>
      {(j.waits_for || j.awaited_by) && (
        <Suspense>
          <Ties j={j} />
        </Suspense>
      )}
      <Journey j={j} now={now} />
      {!finished(j) && <Future j={j} now={now} />}
      <Steps j={j} />
      <Attempts j={j} />
      <Alike
        errors={(j.attempts ?? []).flatMap((a) => (a.error?.message ? [{ message: a.error.message, from: `attempt ${a.attempt}` }] : []))}
      />
      {(j.state === 'dead' || j.state === 'backoff') && <Compare j={j} now={now} />}
      <Edits j={j} />
      {j.payload !== undefined && <JsonView name="Payload" value={j.payload} bytes={j.payload_bytes} />}
      {j.result !== undefined && <JsonView name="Result" value={j.result} />}
    </>
  )
}

const stepWord = { done: 'done', begun: 'is being done', in_doubt: 'in doubt: it was begun, and whether it was done is not known' } as const

/** Steps are the parts of the work that are done once. */
function Steps({ j }: { j: Job }) {
  if (!j.steps?.length) return null
  return (
    <section aria-label="Steps" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        Steps<span className="font-normal text-quiet">, each done once</span>
      </h3>
      <ul>
        {j.steps.map((s) => (
          <li key={s.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-hairline py-1.5">
            <span>{s.name}</span>
            <span className={s.state === 'in_doubt' ? 'font-semibold' : ''}>{stepWord[s.state]}</span>
            <span className="ml-auto text-quiet">
              attempt {s.attempt}, {clock(s.done_at ?? s.begun_at)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Edits are what was changed in the payload after the enqueue, and by whom. */
function Edits({ j }: { j: Job }) {
  if (!j.edits?.length) return null
  return (
    <section aria-label="Edits of the payload" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">Edits of the payload</h3>
      <ol>
        {j.edits.map((e, n) => (
          <li key={n} className="border-b border-hairline py-1.5">
            <p className="text-quiet">
              {e.action === 'patch' ? 'changed' : 'changed for the requeue'} by {e.by}, {e.at && moment(e.at)}
            </p>
            <Difference name={`Edit ${n + 1} of the payload`} before={e.before} after={e.after} />
          </li>
        ))}
      </ol>
    </section>
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
          <li key={a.attempt} className="border-b border-hairline py-1.5">
            {folded > 0 && i === 10 && <p className="pb-1.5 text-quiet">{folded} attempts in between are only counted.</p>}
            <One j={j} a={a} last={i === j.attempts!.length - 1} />
          </li>
        ))}
      </ol>
    </section>
  )
}

function One({ j, a, last }: { j: Job; a: Attempt; last: boolean }) {
  const rounds = j.round > 1
  const took = a.ended_at ? Date.parse(a.ended_at) - Date.parse(a.started_at) : undefined
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-4">
        <span className="w-6 text-right font-mono text-[13px]">{a.attempt}</span>
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
      {a.ended_at && a.progress && (
        <p className="pl-10 text-quiet">
          came to {Math.round(a.progress.percent)} % {a.progress.note}
        </p>
      )}
      {!!a.log_lines && <Log j={j} a={a} openAtFirst={last} />}
    </>
  )
}

/** Log shows what an attempt wrote; that of the last one at once, and while it runs as it is written. */
function Log({ j, a, openAtFirst }: { j: Job; a: Attempt; openAtFirst: boolean }) {
  const [open, setOpen] = useState(openAtFirst)
  const { data, error } = useLog(j.id, a.attempt, open)
  return (
    <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)} className="pl-10">
      <summary className="press">
        {grouped(a.log_lines!)} {a.log_lines === 1 ? 'line' : 'lines'} written
      </summary>
      {error && <p>The log could not be read: {error.message}.</p>}
      <ol
        className="max-h-80 overflow-y-auto py-1 font-mono text-[13px] leading-snug"
        tabIndex={0}
        aria-label={`What attempt ${a.attempt} wrote`}
      >
        {data?.map((l, i) => {
          const gap = l.line - (data[i - 1]?.line ?? 0) - 1
          return (
            <li key={l.line}>
              {gap > 0 && <p className="text-quiet">{grouped(gap)} lines are no longer kept</p>}
              <span className="text-quiet">{clock(l.at)}</span> <span className="break-words whitespace-pre-wrap">{l.text}</span>
            </li>
          )
        })}
      </ol>
    </details>
  )
}

function Deeds({ j }: { j: Job }) {
  const may = useMayAct()
  const [edited, setEdited] = useState<Job['version']>() // of the job, as it was when its form was opened
  if (!may) return null
  const waits =
    j.state === 'scheduled' || j.state === 'backoff' || (j.state === 'held' && !!j.waits_for && (j.waits_for.unmet > 0 || !!j.batch?.last))
  const running = j.state === 'running'
  const deeds: Deed[] = finished(j)
    ? [...(j.refused ? ['accept' as const] : []), 'requeue', 'discard']
    : waits
      ? ['start', 'cancel']
      : [...(j.cancel_asked_at ? [] : ['cancel' as const]), ...(running ? ['end' as const] : [])]
  return (
    <p className="flex flex-wrap gap-3">
      {deeds.map((d) => (
        <Ask key={d} deed={d} j={j} />
      ))}
      {!running && (
        <button type="button" className="button" onClick={() => setEdited(j.version)}>
          {`Edit job ${j.id}`}
        </button>
      )}
      <Suspense>{!running && edited === j.version && <EditJob j={j} close={() => setEdited(undefined)} />}</Suspense>
    </p>
  )
}
