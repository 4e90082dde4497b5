import { type ReactNode, useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { useTitle } from '../../lib/title'
import { manyWorkers, useWorkers, type Worker } from '../../api/client'
import { Cells } from './Cells'
import { Copyable } from '../../parts/Copyable'
import { age, grouped, span } from '../../lib/format'
import { SearchField } from '../../parts/SearchField'
import { useNow } from '../../lib/useNow'
import { beyond, nameOf, queuesOf, resting } from './workerWords'
import { WorkerBeside } from './WorkerBeside'
import { Heading } from '../../parts/Heading'

/** Workers answers: is anything running, what does every slot do, and is it stuck or only slow. */
export function Workers({ open }: { open?: string }) {
  const { data, error } = useWorkers()
  const now = useNow((data?.length ?? 0) > manyWorkers ? 5000 : 1000)
  const chosen = data?.find((w) => w.id === open)
  useTitle(chosen && nameOf(chosen), 'Workers')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <section aria-label="Workers" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <Heading title="Workers" list="/v1/workers" empty={!data?.length}>
          {data ? answer(data, now) : error ? `The workers could not be read: ${error.message}.` : 'Reading the workers …'}
        </Heading>
        {data && <Slow all={data} now={now} />}
        {data && data.length > 0 && <Rows all={data} open={open} now={now} />}
        {data?.length === 0 && (
          <div className="py-4">
            <p>No worker was seen within the last ten minutes. This starts one, which runs ./pack.sh for each job of task log.pack:</p>
            <Copyable command="hmule pool --slots 4 --run log.pack='./pack.sh'" />
          </div>
        )}
      </section>
      {open && <WorkerBeside key={open} id={open} w={chosen} known={!!data} now={now} />}
    </div>
  )
}

/** answer says in a sentence or two how the workers stand. */
function answer(all: Worker[], now: number): string {
  const living = all.filter((w) => !w.silent)
  const silent = all.length - living.length
  const slots = living.reduce((n, w) => n + (w.slots ?? 0), 0)
  const running = living.reduce((n, w) => n + w.running, 0)
  const slow = living.flatMap((w) => w.jobs ?? []).filter((s) => beyond(s, now)).length
  const draining = living.filter(resting).length
  if (all.length === 0) return 'Nothing is running jobs.'
  const parts = [
    `${many(living.length, 'process runs', 'processes run')} jobs; ${grouped(running)} of ${many(slots, 'slot is', 'slots are')} taken.`,
  ]
  if (slow > 0) parts.push(`${many(slow, 'job runs', 'jobs run')} longer than 19 of 20 of ${slow === 1 ? 'its' : 'their'} kind.`)
  if (draining > 0) parts.push(`${many(draining, 'process takes', 'processes take')} no more jobs.`)
  if (silent > 0) parts.push(`${many(silent, 'process has', 'processes have')} not been heard for over 40 s.`)
  return parts.join(' ')
}

const mostSlow = 8

/** Slow lists what runs longer than is usual, the longest beyond it first. */
function Slow({ all, now }: { all: Worker[]; now: number }) {
  const slow = all
    .filter((w) => !w.silent)
    .flatMap((w) => (w.jobs ?? []).filter((s) => beyond(s, now)).map((s) => ({ w, s, took: now - Date.parse(s.since) })))
    .sort((a, b) => b.took / (b.s.long_ms ?? 1) - a.took / (a.s.long_ms ?? 1))
  if (slow.length === 0) return null
  return (
    <section aria-label="Runs longer than usual" className="border-b border-hairline py-2">
      <h3 className="font-semibold">Runs longer than usual</h3>
      <ul>
        {slow.slice(0, mostSlow).map(({ w, s, took }) => (
          <li key={s.job} className="flex min-h-[28px] items-baseline gap-4">
            <Link className="press w-20 shrink-0 text-right font-mono text-[13px]" to={`/jobs/${s.job}`}>
              {s.job}
            </Link>
            <span className="w-40 shrink-0 truncate">
              <bdi>{s.task}</bdi>
            </span>
            <span className="w-28 shrink-0 text-right font-semibold">{span(took)}</span>
            <span className="min-w-0 truncate text-quiet">
              usually {span(s.usual_ms!)}, 19 of 20 within {span(s.long_ms ?? s.usual_ms!)}, on {nameOf(w)}
            </span>
          </li>
        ))}
      </ul>
      {slow.length > mostSlow && <p className="text-quiet">and {grouped(slow.length - mostSlow)} more</p>}
    </section>
  )
}

function many(n: number, one: string, more: string): string {
  return `${grouped(n)} ${n === 1 ? one : more}`
}

/** From more workers than this on they are grouped by version and host. */
const grouping = 50

function fits(w: Worker, sought: string): boolean {
  const text = [nameOf(w), w.id, w.host, w.version, w.summary, queuesOf(w), ...(w.tasks ?? []), ...(w.jobs ?? []).map((s) => s.task)]
  return text.join(' ').toLowerCase().includes(sought.toLowerCase())
}

function Rows({ all, open, now }: { all: Worker[]; open?: string; now: number }) {
  const narrow = open ? 'max-2xl:hidden' : 'max-lg:hidden'
  const [sought, setSought] = useState('')
  const found = sought ? all.filter((w) => fits(w, sought)) : all
  const group = found.length > grouping
  return (
    <>
      <SearchField among={all.length} what="workers" sought={sought} seek={setSought} />
      {found.length === 0 && <p className="py-4">No worker matches “{sought}”.</p>}
      {group ? <Groups all={found} open={open} now={now} narrow={narrow} /> : <Table all={found} open={open} now={now} narrow={narrow} />}
      <p className="max-w-[80ch] py-3 text-[13px] text-quiet">
        One cell for each slot, filled by how long its job has run; the line in it is where half of its task’s runs are done. Full, with
        marks: longer than 19 of 20 runs. With a dot: not known yet.
      </p>
    </>
  )
}

/** Groups folds workers by the version of their program and their host. */
function Groups({ all, open, now, narrow }: { all: Worker[]; open?: string; now: number; narrow: string }) {
  const by = new Map<string, Worker[]>()
  for (const w of all) {
    const key = `${w.version ? `version ${w.version}` : 'version not known'} · ${w.host || 'host not known'}`
    by.set(key, [...(by.get(key) ?? []), w])
  }
  return [...by]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([key, workers]) => {
      const slots = workers.reduce((n, w) => n + (w.slots ?? 0), 0)
      const running = workers.reduce((n, w) => n + w.running, 0)
      const silent = workers.filter((w) => w.silent).length
      return (
        <Group
          key={key}
          open={workers.some((w) => w.id === open)}
          head={
            <>
              <span className="font-semibold">
                <bdi>{key}</bdi>
              </span>
              <span>{many(workers.length, 'worker', 'workers')}</span>
              <span>
                {grouped(running)} of {grouped(slots)} slots taken
              </span>
              {silent > 0 && <span className="font-semibold">{grouped(silent)} not heard</span>}
            </>
          }
          body={() => <Table all={workers} open={open} now={now} narrow={narrow} />}
        />
      )
    })
}

/** Group draws what it holds only while it is open. */
function Group({ open, head, body }: { open: boolean; head: ReactNode; body: () => ReactNode }) {
  const [shown, setShown] = useState(open)
  return (
    <details open={shown} onToggle={(e) => setShown(e.currentTarget.open)} className="border-b border-hairline">
      <summary className="flex min-h-[32px] flex-wrap items-center gap-x-5">{head}</summary>
      {shown && body()}
    </details>
  )
}

function Table({ all, open, now, narrow }: { all: Worker[]; open?: string; now: number; narrow: string }) {
  return (
    <table className="w-full border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:pr-6 [&>th]:font-normal">
          <th>worker</th>
          <th className="max-sm:hidden">does</th>
          <th className="text-right whitespace-nowrap">taken</th>
          <th className="w-full">slots</th>
          <th className={narrow}>queues</th>
          <th className={narrow}>host</th>
          <th className="text-right max-sm:hidden">seen</th>
        </tr>
      </thead>
      <tbody>
        {all.map((w) => (
          <Row key={w.id} w={w} open={w.id === open} now={now} narrow={narrow} />
        ))}
      </tbody>
    </table>
  )
}

function Row({ w, open, now, narrow }: { w: Worker; open: boolean; now: number; narrow: string }) {
  const navigate = useNavigate()
  const to = open ? '/workers' : `/workers/${w.id}`
  const faded = w.silent ? 'text-quiet' : ''
  return (
    <tr
      className={`cursor-pointer border-b border-hairline hover:bg-raised [&>td]:py-1.5 [&>td]:pr-6 [&>td]:align-top ${open ? 'bg-raised' : ''} ${faded}`}
      aria-current={open || undefined}
      data-worker={w.id}
      onClick={() => void navigate(to)}
    >
      <td className="max-w-56 truncate max-sm:max-w-32" title={nameOf(w)}>
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold text-accent' : 'hover:underline'}>
          {nameOf(w)}
        </Link>
      </td>
      <td className="whitespace-nowrap max-sm:hidden">{w.summary}</td>
      <td className="text-right whitespace-nowrap">
        {w.running} of {w.slots ?? '?'}
        {!!w.max_slots && w.max_slots !== w.slots && (
          <span className="text-quiet" title="It grows by itself to so many slots while jobs wait">
            {' '}
            to {w.max_slots}
          </span>
        )}
      </td>
      <td onClick={(e) => e.target !== e.currentTarget && e.stopPropagation()}>
        <Cells w={w} now={now} />
      </td>
      <td className={`max-w-64 truncate ${narrow}`} title={queuesOf(w)}>
        <bdi>{queuesOf(w)}</bdi>
      </td>
      <td className={`max-w-56 truncate ${narrow}`} title={w.host}>
        <bdi>{w.host}</bdi> <span className="text-quiet">{w.pid}</span>
      </td>
      <td className="text-right whitespace-nowrap text-quiet max-sm:hidden">{w.seen_at ? age(w.seen_at, now) : ''}</td>
    </tr>
  )
}
