import { lazy, Suspense, useState } from 'react'
import { Link } from 'react-router'

import { search, useFilter } from '../../lib/address'
import { newKey } from '../../api/access'
import { type Cause, type Job, type Operation, api, told, useCause, useJobs, useMayAct, useOperations, usePatched } from '../../api/client'
import { Beside, Fact, When } from '../../parts/Beside'
import { outcomeOf, underWay } from '../../lib/acts'
import { age, grouped, ofSchedules } from '../../lib/format'
import { problemOf } from '../../lib/json'
import { quoted } from '../../lib/shell'
import { Difference, Varied } from '../../parts/Difference'
import { Failures } from './Failures'
import { Operations } from '../../parts/Operations'
import { Question } from '../../parts/Question'
import { Template } from './Template'
import { Why } from '../../parts/Why'

const Awaiting = lazy(() => import('../jobs/Ties').then((m) => ({ default: m.Awaiting })))

/** CauseBeside tells everything about one cause, and recovers from it, beside the list. */
export function CauseBeside({ id, c, known, now }: { id: string; c?: Cause; known: boolean; now: number }) {
  const filter = useFilter()
  return (
    <Beside title={c ? `${grouped(c.count)} ${c.count === 1 ? 'job' : 'jobs'}, one cause` : 'Cause'} back={'/dead' + search(filter)}>
      {!c && (
        <p className="py-4">
          {known ? 'No dead job has this cause any more: its jobs were requeued or discarded.' : 'Reading the cause …'}
        </p>
      )}
      {c && <Acts c={c} />}
      <Underway cause={Number(id)} now={now} />
      {c && <Known c={c} now={now} />}
    </Beside>
  )
}

/** ofCause is what an act on a cause is for: the jobs that its page shows, in the queue to which it is narrowed. */
function ofCause(c: Cause, queue?: string) {
  return queue ? { cause: c.id, queue: [queue] } : { cause: c.id }
}

/** Acts is what a cause is, and what can be done about it. */
function Acts({ c }: { c: Cause }) {
  const may = useMayAct()
  return (
    <>
      <p className="py-3 text-base break-words">
        <Template text={c.template} />
      </p>
      {may && (
        <p className="flex flex-wrap gap-3">
          <Release c={c} />
          <Discard c={c} />
        </p>
      )}
    </>
  )
}

function Known({ c, now }: { c: Cause; now: number }) {
  const { queue } = useFilter()
  const history = useCause(c.id, true).data
  return (
    <>
      <dl className="mt-4 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="type">{c.type}</Fact>
        <Fact name="dead">
          <Link className="press" to={`/jobs?state=dead&cause=${c.id}${queue ? `&queue=${encodeURIComponent(queue)}` : ''}`}>
            {grouped(c.count)} {c.count === 1 ? 'job' : 'jobs'}
            {queue && ` in queue ${queue}`}
          </Link>
          {!!c.superseded && <span className="text-quiet">, {ofSchedules(c.superseded, c.schedules)}</span>}
        </Fact>
        <Fact name="failures">{grouped(c.total)} attempts ever</Fact>
        <When name="first" at={c.first_at} now={now} />
        <When name="last" at={c.last_at} now={now} />
        <Fact name="latest">
          <Link className="press" to={`/jobs/${c.job}`}>
            job {c.job}
          </Link>
        </Fact>
      </dl>
      {history ? <More c={c} history={history} now={now} /> : <p className="py-4 text-quiet">Reading its history …</p>}
    </>
  )
}

/** More is what is told of a cause with its history: so that nothing moves when that comes. */
function More({ c, history, now }: { c: Cause; history: Cause; now: number }) {
  return (
    <>
      {history.awaited_by && (
        <Suspense>
          <Awaiting c={history} />
        </Suspense>
      )}
      <Failures c={history} now={now} />
      <section aria-label="Where" className="mt-6">
        <h3 className="border-b border-hairline pb-1 font-semibold">Where</h3>
        <table className="w-full">
          <tbody>
            {c.by.map((b) => (
              <tr key={`${b.task} ${b.queue} ${b.version} ${b.host}`} className="h-[32px] border-b border-hairline [&>td]:pr-4">
                <td className="w-16 text-right">{grouped(b.count)}</td>
                <td>{b.task}</td>
                <td>{b.queue}</td>
                <td className="text-quiet">{b.version && `version ${b.version}`}</td>
                <td className="text-quiet">{b.host && `on ${b.host}`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <section aria-label="Latest errors" className="mt-6">
        <h3 className="border-b border-hairline pb-1 font-semibold">
          Latest errors<span className="font-normal text-quiet">, of each wording one</span>
        </h3>
        <ul className="text-quiet">
          {c.samples?.map((text, n) => (
            <li key={text} className="border-b border-hairline py-1.5 break-words whitespace-pre-wrap">
              <Varied text={text} from={c.samples![n === 0 ? 1 : 0] ?? text} />
            </li>
          ))}
        </ul>
      </section>
      <Jobs c={c} now={now} />
    </>
  )
}

/** Jobs lists the newest jobs of a cause, of which some may be chosen. */
function Jobs({ c, now }: { c: Cause; now: number }) {
  const may = useMayAct()
  const [chosen, setChosen] = useState<number[]>([])
  const { queue } = useFilter()
  const list = useJobs({ state: 'dead', cause: String(c.id), queue })
  const jobs = list.data?.pages.flatMap((p) => p.jobs) ?? []
  const ids = chosen.filter((id) => jobs.some((j) => j.id === id))
  const toggle = (id: number) => setChosen((all) => (all.includes(id) ? all.filter((x) => x !== id) : [...all, id]))
  return (
    <section aria-label="Its jobs" className="mt-6">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-2 border-b border-hairline pb-1">
        <h3 className="font-semibold">
          Its jobs<span className="font-normal text-quiet">, newest first</span>
        </h3>
        {may && jobs.length > 0 && (
          <button
            type="button"
            className="press ml-auto"
            onClick={() => setChosen(ids.length === jobs.length ? [] : jobs.map((j) => j.id))}
          >
            {ids.length === jobs.length ? 'Choose none' : `Choose these ${grouped(jobs.length)}`}
          </button>
        )}
      </div>
      {may && ids.length > 0 && <OnChosen ids={ids} />}
      <ul>
        {jobs.map((j) => (
          <Chosen key={j.id} j={j} now={now} checked={ids.includes(j.id)} toggle={may ? () => toggle(j.id) : undefined} />
        ))}
      </ul>
      {list.hasNextPage && (
        <button type="button" className="press py-2" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
          Show more
        </button>
      )}
    </section>
  )
}

function Chosen({ j, now, checked, toggle }: { j: Job; now: number; checked: boolean; toggle?: () => void }) {
  return (
    <li className="flex h-[32px] items-center gap-3 border-b border-hairline">
      {toggle && <input type="checkbox" aria-label={`Choose job ${j.id}`} checked={checked} onChange={toggle} />}
      <Link className="press w-16 shrink-0 text-right font-mono text-[13px]" to={`/jobs/${j.id}`}>
        {j.id}
      </Link>
      <code className="min-w-0 flex-1 truncate text-[13px]" title={j.payload_head}>
        {j.payload_head}
      </code>
      <span className="shrink-0 text-quiet">{j.finished_at && age(j.finished_at, now)}</span>
    </li>
  )
}

/** OnChosen does something to the chosen jobs alone. */
function OnChosen({ ids }: { ids: number[] }) {
  const jobs = `${grouped(ids.length)} chosen ${ids.length === 1 ? 'job' : 'jobs'}`
  const flags = ids.map((id) => ` --id ${id}`).join('')
  const act = (action: 'requeue' | 'discard') =>
    told(api.POST('/v1/jobs/act', { params: { header: { 'Idempotency-Key': newKey() } }, body: { action, ids } }))
  return (
    <p className="flex flex-wrap gap-3 py-2">
      <Question
        title={`Requeue ${jobs}`}
        follows={`${jobs} begin a new round at once. What they did before stays on record.`}
        confirm={`Requeue ${jobs}`}
        command={`hmule job requeue${flags}`}
        send={() => act('requeue')}
        done={(a) => outcomeOf(a as Operation)}
      />
      <Question
        title={`Discard ${jobs}`}
        follows={`${jobs} leave every list and count at once. They can be brought back for 10 minutes; then they are gone.`}
        confirm={`Discard ${jobs}`}
        command={`hmule job discard${flags}`}
        send={() => act('discard')}
        done={(a) => outcomeOf(a as Operation)}
      />
    </p>
  )
}

/** Patched shows what the patch makes of the first of the payloads. */
function Patched({ filter, patch }: { filter: string; patch: string }) {
  const { data, error } = usePatched(filter, patch, true)
  if (error) return <p role="alert">{error.message}</p>
  if (!data) return null
  return (
    <div className="mt-2">
      <p className="text-quiet">What it makes of job {data.job}, for one:</p>
      <Difference name="Difference of the payload" before={data.before} after={data.after} />
    </div>
  )
}

/** Release requeues a few jobs of a cause first, and the rest when these are done. */
function Release({ c }: { c: Cause }) {
  const [trial, setTrial] = useState(Math.min(3, c.count))
  const [patch, setPatch] = useState('')
  const wrong = patch.trim() ? problemOf(patch) : undefined
  const { queue } = useFilter()
  const filter = JSON.stringify(ofCause(c, queue))
  const jobs = `${grouped(c.count)} ${c.count === 1 ? 'job' : 'jobs'}${queue ? ` of queue ${queue}` : ''}`
  const follows =
    trial >= c.count
      ? `${jobs} begin a new round at once. What they did before stays on record.`
      : `${trial} of ${jobs} begin a new round first. When all of these are done the rest follows; when one fails, the rest stays dead.`
  const edit = patch.trim() ? ` --payload-patch ${quoted(patch.trim())}` : ''
  const send = () =>
    told(
      api.POST('/v1/jobs/act', {
        params: { header: { 'Idempotency-Key': newKey() } },
        body: { action: 'requeue' },
        // As text, so that numbers keep their digits.
        bodySerializer: () =>
          `{"action":"requeue","filter":${filter},"trial":${trial >= c.count ? 0 : trial}${patch.trim() ? `,"payload_patch":${patch.trim()}` : ''}}`,
      }),
    )
  return (
    <Question
      title={`Requeue ${jobs}`}
      follows={follows}
      confirm={trial >= c.count ? `Requeue ${jobs}` : `Try ${trial}, then release ${grouped(c.count - trial)}`}
      command={`hmule dead recover --cause ${c.id}${queue ? ` --queue ${queue}` : ''} --trial ${trial >= c.count ? 0 : trial}${edit}`}
      send={send}
      done={(a) => outcomeOf(a as Operation)}
      blocked={!!wrong || !(trial >= 1)}
    >
      <label className="flex items-baseline gap-2">
        <span className="text-quiet">Try first</span>
        <input
          className="field w-16 text-right"
          type="number"
          min={1}
          max={Math.min(c.count, 100)}
          value={trial}
          onChange={(e) => setTrial(Math.min(Number(e.target.value), 100))}
        />
        <span className="text-quiet">of {jobs}</span>
      </label>
      <label className="mt-3 block">
        <span className="text-quiet">Change their payloads by a JSON merge patch, where that is the fix</span>
        <textarea
          className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]"
          rows={2}
          spellCheck={false}
          placeholder={'{"bank":"harbour-savings"}'}
          value={patch}
          onChange={(e) => setPatch(e.target.value)}
        />
      </label>
      {wrong && <p role="alert">The patch is not valid JSON: {wrong}</p>}
      {!wrong && patch.trim() && <Patched filter={filter} patch={patch.trim()} />}
    </Question>
  )
}

function Discard({ c }: { c: Cause }) {
  const [note, setNote] = useState('')
  const { queue } = useFilter()
  const jobs = `${grouped(c.count)} ${c.count === 1 ? 'job' : 'jobs'}${queue ? ` of queue ${queue}` : ''}`
  return (
    <Question
      title={`Discard ${jobs}`}
      follows={`${jobs} leave every list and count at once. They can be brought back for 10 minutes; then they are gone.`}
      confirm={`Discard ${jobs}`}
      command={`hmule job discard --cause ${c.id}${queue ? ` --queue ${queue}` : ''}${note ? ` --note ${quoted(note)}` : ''}`}
      send={() =>
        told(
          api.POST('/v1/jobs/act', {
            params: { header: { 'Idempotency-Key': newKey() } },
            body: { action: 'discard', filter: ofCause(c, queue), note },
          }),
        )
      }
      done={(a) => outcomeOf(a as Operation)}
    >
      <Why value={note} set={setNote} />
    </Question>
  )
}

const latest = 3

/**
 * Underway tells what was done about a cause, latest first, and stops or undoes it. It stands above
 * the lists, so that its buttons do not move when the jobs leave them.
 */
function Underway({ cause, now }: { cause: number; now: number }) {
  const { data } = useOperations()
  const all = data?.filter((o) => o.filter?.cause === cause) ?? []
  if (all.length === 0) return null
  return (
    <section aria-label="What was done about it" className="mt-4">
      <h3 className="border-b border-hairline pb-1 font-semibold">What was done about it</h3>
      <Operations all={all.filter((o, i) => underWay(o) || i < latest)} now={now} />
      {all.length > latest && (
        <Link className="press" to="/log">
          All in the action log
        </Link>
      )}
    </section>
  )
}
