import { useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { search, useFilter } from '../../lib/address'
import { newKey } from '../../api/access'
import { type Run, type ScheduleStatus, api, told, useMayAct, useRuns, useSchedule } from '../../api/client'
import { Beside, Fact, FromFile, fromFile, When } from '../../parts/Beside'
import { grouped, moment, span } from '../../lib/format'
import { Mark } from '../../parts/Mark'
import { Question } from '../../parts/Question'
import { forgetUnsaved, useUnsaved } from '../../lib/unsaved'
import { blank, command, type Entered, enteredOf, jobsOf, payloadProblem, runOf, written } from './schedules'
import { ScheduleForm } from './ScheduleForm'
import { Times } from './Times'

/** newSchedule stands in the address for one that is not kept yet. */
export const newSchedule = '+'

/** ScheduleBeside shows a schedule with its history, and edits it. */
export function ScheduleBeside({ name, now }: { name: string; now: number }) {
  const filter = useFilter()
  const isNew = name === newSchedule
  const { data, error } = useSchedule(name, !isNew)
  const back = '/coming' + search(filter)
  return (
    <Beside title={isNew ? 'New schedule' : name} back={back}>
      {isNew && <Edit before={blank} />}
      {!isNew && !data && <p className="py-4">{error ? error.message + '.' : 'Reading the schedule …'}</p>}
      {data && !isNew && <Known s={data} now={now} />}
    </Beside>
  )
}

function Known({ s, now }: { s: ScheduleStatus; now: number }) {
  const may = useMayAct()
  return (
    <>
      {may && (
        <div className="flex flex-wrap gap-3 pt-4">
          <Deed s={s} verb="run" />
          <Deed s={s} verb={s.paused ? 'resume' : 'pause'} />
          {s.defined_by === 'hand' && <Delete s={s} />}
        </div>
      )}
      <p className="pt-4 text-lg">
        {s.summary}
        {s.cron && <span className="text-quiet">, {s.zone}</span>}
      </p>
      <dl className="mt-2 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name={s.batch ? 'batch' : 'job'}>
          {s.batch && `${s.batch.name ? `${s.batch.name}, ` : ''}${jobsOf(s)} jobs, the last one `}
          {runOf(s).task} <span className="text-quiet">in queue {runOf(s).queue ?? 'of its task, else common'}</span>
        </Fact>
        {s.paused && (
          <Fact name="paused">
            by {s.paused_by}, {s.paused_at && moment(s.paused_at)}
          </Fact>
        )}
        <Fact name="waits">
          {!!s.waiting && (
            <>
              <Link className="press" to={`/jobs/${s.waiting}`}>
                job {s.waiting}
              </Link>
              , for the end of the run before
            </>
          )}
        </Fact>
        <Fact name="failed">
          {!!s.failed_in_a_row && `${grouped(s.failed_in_a_row)} ${s.failed_in_a_row === 1 ? 'run' : 'runs'} in a row`}
        </Fact>
        <When name="last done" at={s.last_done_at} now={now} />
        <Fact name="spread">{s.spread && `within ${s.spread}; this one comes ${span(s.spread_ms ?? 0)} later`}</Fact>
        <When name="until" at={s.until} now={now} />
        <Fact name="note">{s.note}</Fact>
      </dl>
      <History name={s.name} />
      {!s.paused && <Times next={s.next} notes={s.notes ?? []} zone={s.cron ? s.zone : undefined} />}
      {s.defined_by === 'file' && <FromFile />}
      {may && <Edit key={s.version} before={enteredOf(s)} was={s} />}
    </>
  )
}

const deeds = {
  run: {
    title: 'Run now',
    confirm: (s: ScheduleStatus) => (s.batch ? 'Start 1 batch' : 'Enqueue 1 job'),
    follows: (s: ScheduleStatus) =>
      `${s.batch ? `A batch of ${jobsOf(s)} jobs is started` : `1 job of ${runOf(s).task} is enqueued`} now, beside the planned times, which stay as they are. Where the last run is not over, ${whatThen[s.if_still_running ?? 'skip']}.`,
  },
  pause: {
    title: 'Pause',
    confirm: () => 'Pause 1 schedule',
    follows: () =>
      'Nothing more of 1 schedule is enqueued. Jobs that are there stay. Times inside the pause are not missed: they are not made up for when it goes on.',
  },
  resume: {
    title: 'Resume',
    confirm: () => 'Resume 1 schedule',
    follows: () => '1 schedule goes on with its next planned time. Times inside the pause are not made up for.',
  },
}

const whatThen = { skip: 'this is refused', wait: 'the new one waits for its end', also: 'the new one comes beside it' }

function Deed({ s, verb }: { s: ScheduleStatus; verb: keyof typeof deeds }) {
  const init = { params: { path: { name: s.name }, header: { 'Idempotency-Key': newKey() } }, body: {} }
  const send = {
    run: () => api.POST('/v1/schedules/{name}/run', init),
    pause: () => api.POST('/v1/schedules/{name}/pause', init),
    resume: () => api.POST('/v1/schedules/{name}/resume', init),
  }
  return (
    <Question
      title={deeds[verb].title}
      follows={deeds[verb].follows(s)}
      confirm={deeds[verb].confirm(s)}
      command={`hmule schedule ${verb} ${s.name}`}
      send={() => told(send[verb]())}
    />
  )
}

function Delete({ s }: { s: ScheduleStatus }) {
  const navigate = useNavigate()
  return (
    <Question
      title="Delete"
      follows="1 schedule and its history are deleted; this cannot be undone. Its jobs stay, and one that waits for an earlier run becomes ready."
      confirm="Delete 1 schedule"
      command={`hmule schedule delete ${s.name}`}
      send={async () => {
        const { error } = await api.DELETE('/v1/schedules/{name}', {
          params: { path: { name: s.name }, header: { 'Idempotency-Key': newKey() } },
        })
        if (error) throw new Error(error.detail)
        void navigate('/coming')
      }}
    />
  )
}

/** History is a row of marks, one for each planned time, the latest at the right. */
function History({ name }: { name: string }) {
  const { data } = useRuns(name)
  if (!data?.length) return null
  const shown = data.slice(0, 60).toReversed()
  const skipped = shown.filter((r) => r.reason).length
  return (
    <section aria-label="What became of its times" className="mt-5">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        What became of its times<span className="font-normal text-quiet">, latest at the right</span>
      </h3>
      <p className="flex flex-wrap items-center gap-x-1.5 gap-y-1 py-2">
        {shown.map((r) => (
          <Past key={r.planned_at} r={r} />
        ))}
      </p>
      <p className="text-[13px] text-quiet">
        {shown.length} planned times; {skipped === 0 ? 'none was left out' : `${skipped} left out (a dash)`}. Since{' '}
        {moment(shown[0]!.planned_at)}.
      </p>
    </section>
  )
}

function Past({ r }: { r: Run }) {
  const says = `${moment(r.planned_at)}: ${r.summary}`
  if (r.reason) {
    return <span role="img" aria-label={says} title={says} className="inline-block w-3 border-b-2 border-skipped" />
  }
  return (
    <Link to={`/jobs/${r.job_id}`} title={says} aria-label={says}>
      <Mark state={r.state ?? 'done'} />
    </Link>
  )
}

function Edit({ before, was }: { before: Entered; was?: ScheduleStatus }) {
  const [now, set] = useState(before)
  const [valid, setValid] = useState(true)
  const navigate = useNavigate()
  const changed = JSON.stringify(now) !== JSON.stringify(before)
  useUnsaved(changed)
  const problem = payloadProblem(now)
  const blocked = !valid || !!problem || !now.name || !now.task
  return (
    <section aria-label="Rule" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">{was ? 'Change it' : 'When, and what'}</h3>
      <ScheduleForm value={now} set={set} isNew={!was} batch={!!was?.batch} problem={problem} told={setValid} shown={changed || !was} />
      <div className="mt-4 flex items-baseline gap-4">
        {changed ? (
          <Question
            title={was ? `Change ${was.name}` : 'Keep this schedule'}
            follows={`1 schedule ${was ? 'changes' : 'is kept'}; its next time is as shown. Jobs that are there already stay as they are. It is on record.${was?.defined_by === 'file' ? ' ' + fromFile : ''}`}
            confirm={was ? 'Change 1 schedule' : 'Keep 1 schedule'}
            command={command(now, was)}
            send={async () => {
              const header = { 'Idempotency-Key': newKey(), ...(was && { 'If-Match': `"${was.version}"` }) }
              await told(
                api.PUT('/v1/schedules/{name}', {
                  params: { path: { name: now.name }, header },
                  body: { job: { task: now.task } },
                  bodySerializer: () => written(now, was),
                }),
              )
              if (was) return
              forgetUnsaved()
              void navigate(`/coming/${now.name}`)
            }}
            blocked={blocked}
          />
        ) : (
          <span className="text-quiet">Change a field to see what follows, and to save it.</span>
        )}
        {changed && was && (
          <button type="button" className="press" onClick={() => set(before)}>
            As it was
          </button>
        )}
      </div>
    </section>
  )
}
