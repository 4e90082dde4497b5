import { Link, useNavigate } from 'react-router'

import { besideOpen } from '../../lib/layout'
import { useTitle } from '../../lib/title'
import { search, useFilter } from '../../lib/address'
import {
  type Coming as Told,
  type Run,
  type ScheduleStatus,
  useComing,
  useMayAct,
  useSchedules,
  useStats,
  useTasks,
} from '../../api/client'
import { Copyable } from '../../parts/Copyable'
import { age, grouped, moment, span, zone } from '../../lib/format'
import { StateWord } from '../../parts/Mark'
import { Ruler } from './Ruler'
import { oftenWords, runOf } from './schedules'
import { newSchedule, ScheduleBeside } from './ScheduleBeside'
import { useNow } from '../../lib/useNow'
import { useWidth } from '../../lib/useWidth'
import { Heading } from '../../parts/Heading'

/** Coming answers: what will run and when, and did what was planned come in time. */
export function Coming({ open }: { open?: string }) {
  const filter = useFilter()
  const schedules = useSchedules()
  const coming = useComing(filter.queue)
  const now = useNow(1000)
  const may = useMayAct()
  const all = schedules.data?.filter((s) => !filter.queue || (runOf(s).queue ?? 'common') === filter.queue)
  const error = schedules.error ?? coming.error
  // The address of a new schedule is /coming/new, unless one has that name.
  const shown = open !== 'new' ? open : !all ? undefined : all.some((s) => s.name === open) ? open : newSchedule
  useTitle(shown === newSchedule ? 'New schedule' : open, 'Coming up')
  return (
    <div className={besideOpen(!!open)}>
      <section aria-label="Coming up" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <Heading
          title="Coming up"
          list="/v1/schedules"
          empty={!schedules.data?.length}
          acts={
            may && (
              <Link className="button" to="/coming/new">
                New schedule
              </Link>
            )
          }
        >
          {all && coming.data
            ? answer(all, coming.data, now)
            : error
              ? `What is coming could not be read: ${error.message}.`
              : 'Reading what is coming …'}
        </Heading>
        {coming.data && <Tight c={coming.data} />}
        {coming.data && all && <Day c={coming.data} schedules={all} />}
        {all && all.length > 0 && <Rows all={all} open={open} now={now} />}
        {all?.length === 0 && (
          <div className="py-4">
            <p>No schedule is kept{filter.queue ? ' for this queue' : ''}. This keeps one:</p>
            <Copyable command="hmule schedule set tides cron='30 3 * * *' zone=Europe/Lisbon job.task=tide.predict" />
          </div>
        )}
        {coming.data && <Jobs c={coming.data} now={now} />}
      </section>
      {shown && <ScheduleBeside key={shown} name={shown} now={now} />}
    </div>
  )
}

function answer(all: ScheduleStatus[], c: Told, now: number): string {
  const sum = (bins: number[]) => bins.reduce((n, b) => n + b, 0)
  const [runs, jobs] = [sum(c.runs), sum(c.jobs)]
  const until = c.counted_to ? `until ${moment(c.counted_to)}` : 'within 24 hours'
  const parts = [
    runs + jobs === 0
      ? 'Nothing becomes due within 24 hours.'
      : `${many(runs, 'planned run')} and ${many(jobs, 'waiting job')} become due ${until}.`,
  ]
  const first = c.items[0]
  if (first) parts.push(`The next is ${first.schedule ?? `job ${first.job}`}, ${age(first.at, Math.min(now, Date.parse(first.at)))}.`)
  const late = all.filter((s) => (s.last?.late_ms ?? 0) > 60_000).map((s) => s.name)
  if (late.length > 0) parts.push(`Late by more than a minute the last time: ${late.join(', ')}.`)
  const paused = all.filter((s) => s.paused).length
  if (paused > 0) parts.push(`${many(paused, 'schedule')} ${paused === 1 ? 'is' : 'are'} paused.`)
  return parts.join(' ')
}

function many(n: number, what: string): string {
  return `${grouped(n)} ${what}${n === 1 ? '' : 's'}`
}

/** Tight says which schedules come more often than their runs take, and into which queues more comes than can be done. */
function Tight({ c }: { c: Told }) {
  const tasks = useTasks().data ?? []
  const queues = useStats().data?.queues ?? []
  const usual = (task: string) => tasks.find((t) => t.name === task)?.run?.p50_ms
  const overlapping = c.often.filter((o) => (usual(o.task) ?? 0) > o.every_ms)
  const into = new Set([...c.often.map((o) => o.queue), ...c.items.map((i) => i.queue)])
  const full = queues.filter((q) => into.has(q.name) && (q.pace?.utilisation ?? 0) > 1)
  if (overlapping.length + full.length === 0) return null
  return (
    <ul aria-label="What will not fit" className="border-b border-hairline py-2">
      {overlapping.map((o) => (
        <li key={o.schedule}>
          <Link className="press" to={`/coming/${encodeURIComponent(o.schedule)}`}>
            <bdi>{o.schedule}</bdi>
          </Link>{' '}
          will not fit: it comes every {span(o.every_ms)}, and half of its runs take longer than {span(usual(o.task) ?? 0)}.
        </li>
      ))}
      {full.map((q) => (
        <li key={q.name}>
          Queue{' '}
          <Link className="press" to={`/queues/${encodeURIComponent(q.name)}`}>
            <bdi>{q.name}</bdi>
          </Link>{' '}
          will not keep up: {Math.round(100 * q.pace.utilisation!)} % of what it can finish comes.
        </li>
      ))}
    </ul>
  )
}

/** Day is the ruler, as wide as there is room. */
function Day({ c, schedules }: { c: Told; schedules: ScheduleStatus[] }) {
  const [box, width] = useWidth<HTMLDivElement>()
  return (
    <div ref={box} className="py-3">
      <div className="min-h-[104px]">{width > 0 && <Ruler c={c} schedules={schedules} width={width} />}</div>
      <p className="text-[13px] break-words text-quiet">
        The next 24 hours, in {zone}. Above the line planned runs, {span(c.step_ms)} a tick; below it jobs that wait for their time. The
        higher, the more.
        {c.often.length > 0 && ` The band: ${c.often.map(oftenWords).join(', ')}.`}
      </p>
    </div>
  )
}

function Rows({ all, open, now }: { all: ScheduleStatus[]; open?: string; now: number }) {
  const filter = useFilter()
  const navigate = useNavigate()
  const narrow = open ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className="w-full border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>th]:pr-5 [&>th]:font-normal">
          <th>schedule</th>
          <th className="w-full">when</th>
          <th className={narrow}>zone</th>
          <th className={narrow}>task</th>
          <th>next</th>
          <th>last run</th>
          <th className={`text-right ${narrow}`} title="How long after its planned time the last run started">
            late
          </th>
        </tr>
      </thead>
      <tbody>
        {all.map((s) => {
          const to = (s.name === open ? '/coming' : `/coming/${s.name}`) + search(filter)
          return (
            <tr
              key={s.name}
              className={`h-[32px] cursor-pointer border-b border-hairline whitespace-nowrap hover:bg-raised [&>td]:pr-5 ${s.name === open ? 'bg-raised' : ''}`}
              aria-current={s.name === open || undefined}
              data-schedule={s.name}
              onClick={() => void navigate(to)}
            >
              <td className="max-w-64 truncate max-sm:max-w-28" title={s.name}>
                <Link to={to} onClick={(e) => e.stopPropagation()} className={s.name === open ? 'font-semibold' : 'hover:underline'}>
                  <bdi>{s.name}</bdi>
                </Link>
              </td>
              <td className="max-w-0 truncate" title={s.summary}>
                {s.summary}
              </td>
              <td className={narrow}>{s.cron ? s.zone : ''}</td>
              <td className={`max-w-40 truncate ${narrow}`} title={runOf(s).task}>
                <bdi>{runOf(s).task}</bdi>
              </td>
              <td>{next(s, now)}</td>
              <td>
                <Last r={s.last} />
                {(s.failed_in_a_row ?? 0) > 1 && <span className="font-semibold"> {s.failed_in_a_row} in a row</span>}
              </td>
              <td className={`text-right ${narrow}`}>{s.last?.started_at ? span(s.last.late_ms ?? 0) : ''}</td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function next(s: ScheduleStatus, now: number) {
  if (s.paused) return <span className="font-semibold">paused</span>
  const at = s.next[0]?.utc
  if (!at) return <span className="text-quiet">nothing to come</span>
  return <span title={moment(at)}>{age(at, Math.min(now, Date.parse(at)))}</span>
}

function Last({ r }: { r?: Run }) {
  if (!r?.state) return <span className="text-quiet">none yet</span>
  return (
    <Link className="hover:underline" to={`/jobs/${r.job_id}`} onClick={(e) => e.stopPropagation()}>
      <StateWord state={r.state} />
    </Link>
  )
}

/** Jobs lists the first of the jobs that wait for their time. */
function Jobs({ c, now }: { c: Told; now: number }) {
  const jobs = c.items.filter((i) => i.job)
  if (jobs.length === 0) return null
  return (
    <section aria-label="Jobs that wait for their time" className="mt-8">
      <h3 className="flex items-baseline gap-4 border-b border-hairline pb-1 font-semibold">
        Jobs that wait for their time
        <Link className="press font-normal" to="/jobs?state=scheduled">
          All that are scheduled
        </Link>
      </h3>
      <ul>
        {jobs.slice(0, 12).map((i) => (
          <li key={i.job} className="flex h-[32px] items-center gap-5 border-b border-hairline whitespace-nowrap max-sm:gap-3">
            <Link className="press w-16 text-right font-mono text-[13px]" to={`/jobs/${i.job}`}>
              {i.job}
            </Link>
            <span className="w-40 min-w-0 truncate" title={i.task}>
              <bdi>{i.task}</bdi>
            </span>
            {i.state && <StateWord state={i.state} />}
            <span className="ml-auto text-quiet" title={moment(i.at)}>
              {moment(i.at)}, {age(i.at, Math.min(now, Date.parse(i.at)))}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
