import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type Slot, type Worker, api, told, useMayAct } from '../../api/client'
import { Beside, Fact, When } from '../../parts/Beside'
import { search } from '../../lib/address'
import { age, moment, span } from '../../lib/format'
import { Progress } from '../../parts/Progress'
import { Question } from '../../parts/Question'
import { beyond, nameOf, queuesOf } from './workerWords'

/** WorkerBeside tells everything about one worker process, beside the list. */
export function WorkerBeside({ id, w, known, now }: { id: string; w?: Worker; known: boolean; now: number }) {
  return (
    <Beside title={w ? nameOf(w) : 'Worker'} beside={w && <span>{w.summary}</span>} back="/workers">
      {!w && (
        <p className="py-4">
          {known ? `No worker ${id} was seen within the last ten minutes. Its process has ended.` : 'Reading the worker …'}
        </p>
      )}
      {w && <Known w={w} now={now} />}
    </Beside>
  )
}

function Known({ w, now }: { w: Worker; now: number }) {
  const may = useMayAct()
  return (
    <>
      {may && <Deeds w={w} />}
      <dl className="mt-4 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="host">{w.host && `${w.host}, pid ${w.pid}`}</Fact>
        <Fact name="version">{w.version}</Fact>
        <Fact name="slots">{w.max_slots ? `${w.slots}, by itself between ${w.min_slots} and ${w.max_slots}` : w.slots}</Fact>
        <Fact name="ahead">{w.ahead ? `holds up to ${w.ahead} jobs unstarted` : undefined}</Fact>
        <Fact name="queues">{queuesOf(w)}</Fact>
        <Fact name="tasks">{w.tasks?.join(', ')}</Fact>
        <Fact name="settings">{w.outdated && 'changed since it took its jobs; those run by the settings they were taken with'}</Fact>
        <When name="started" at={w.started_at} now={now} />
        <When name="seen" at={w.seen_at} now={now} />
        <Fact name="id">
          <span className="font-mono text-[13px] break-all">{w.id}</span>
        </Fact>
      </dl>
      <section aria-label="What its slots do" className="mt-6">
        <h3 className="border-b border-hairline pb-1 font-semibold">What its slots do</h3>
        {w.jobs?.length ? (
          <ul>
            {w.jobs.map((s) => (
              <Doing key={s.job} s={s} now={now} />
            ))}
          </ul>
        ) : (
          <p className="py-2 text-quiet">Nothing: every slot is free.</p>
        )}
        <Link className="press" to={'/jobs' + search({ worker: w.id })}>
          Jobs that it runs or ran last
        </Link>
      </section>
      {!!w.sizes?.length && <Sizes w={w} />}
    </>
  )
}

function Doing({ s, now }: { s: Slot; now: number }) {
  const took = Math.max(now - Date.parse(s.since), 0)
  return (
    <li className="border-b border-hairline py-2">
      <p className="flex flex-wrap items-baseline gap-x-4">
        <Link className="press font-mono text-[13px]" to={`/jobs/${s.job}`}>
          {s.job}
        </Link>
        <span>{s.task}</span>
        <span className={beyond(s, now) ? 'font-semibold' : ''}>for {span(took)}</span>
        <span className="text-quiet">
          {s.usual_ms
            ? `usually ${span(s.usual_ms)}, 19 of 20 within ${span(s.long_ms ?? s.usual_ms)}`
            : 'how long is usual is not known yet'}
        </span>
      </p>
      <Progress of={s} now={now} />
      {s.cancel_asked_at && <p className="text-quiet">asked to end {age(s.cancel_asked_at, now)}</p>}
    </li>
  )
}

function Sizes({ w }: { w: Worker }) {
  return (
    <section aria-label="How its slots changed" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">How its slots changed</h3>
      <ul>
        {w.sizes!.toReversed().map((r) => (
          <li key={r.at} className="flex flex-wrap gap-x-4 border-b border-hairline py-1.5">
            <time className="text-quiet" dateTime={r.at}>
              {moment(r.at)}
            </time>
            <span className="w-16 text-right">
              {r.from} → {r.to}
            </span>
            <span className="min-w-[16rem] flex-1">{r.why}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}

type Want = 'run' | 'drain' | 'leave'

function Deeds({ w }: { w: Worker }) {
  const asked = w.wanted ?? 'run'
  const deeds: Want[] = asked === 'run' ? ['drain', 'leave'] : asked === 'drain' ? ['run', 'leave'] : ['run']
  return (
    <p className="flex flex-wrap gap-3 pt-3">
      {deeds.map((want) => (
        <Question
          key={want}
          title={titles[want](nameOf(w))}
          follows={follows(want, w)}
          confirm={confirms[want]}
          command={`hmule worker ${want === 'run' ? 'resume' : want} ${nameOf(w)}`}
          send={() => send(want, w.id)}
        />
      ))}
    </p>
  )
}

const titles = {
  drain: (n: string) => `Drain ${n}`,
  leave: (n: string) => `Let ${n} leave`,
  run: (n: string) => `Let ${n} take jobs again`,
}
const confirms = { drain: 'Drain 1 worker', leave: 'Let 1 worker leave', run: 'Let 1 worker run' }

/** follows says what comes of asking, by what the worker runs. */
function follows(want: Want, w: Worker): string {
  const jobs =
    w.running === 0
      ? 'It runs no job now.'
      : w.running === 1
        ? 'The 1 job that it runs is finished first.'
        : `The ${w.running} jobs that it runs are finished first.`
  if (want === 'drain')
    return `1 worker takes no more jobs. ${jobs} The process stays, also when the service is started anew, until it is asked to take jobs again.`
  if (want === 'leave')
    return `1 worker takes no more jobs, and its process ends. ${jobs} What does not end within its grace time is given back, uncounted. Only whoever started the process can start it again.`
  return '1 worker takes jobs again.'
}

function send(want: Want, id: string): Promise<Worker> {
  const init = { params: { path: { id }, header: { 'Idempotency-Key': newKey() } }, body: {} }
  if (want === 'drain') return told(api.POST('/v1/workers/{id}/drain', init))
  if (want === 'leave') return told(api.POST('/v1/workers/{id}/leave', init))
  return told(api.POST('/v1/workers/{id}/resume', init))
}
