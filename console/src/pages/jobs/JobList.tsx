import { Link, useNavigate } from 'react-router'

import { path } from '../../lib/address'
import { type Counts, type Filter, type Job, type State, filterNames, useJobs } from '../../api/client'
import { Copyable } from '../../parts/Copyable'
import { age, grouped, moment, tries } from '../../lib/format'
import { StateWord } from '../../parts/Mark'
import { useTitle } from '../../lib/title'
import { useNow } from '../../lib/useNow'
import { Bar } from './Bar'

/** JobList lists the jobs that the address asks for, newest first. */
export function JobList({ filter, open, counts }: { filter: Filter; open?: number; counts?: Counts }) {
  const list = useJobs(filter)
  const now = useNow(1000)
  const jobs = list.data?.pages.flatMap((p) => p.jobs) ?? []
  const matched = list.data?.pages[0]?.matched
  useTitle(open !== undefined && `Job ${open}`, 'Jobs')
  return (
    <section
      aria-label="Jobs"
      aria-busy={list.isPlaceholderData || list.isPending}
      className={`mt-4 min-w-0 ${list.isPlaceholderData ? 'opacity-50' : ''}`}
    >
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold" aria-live="polite">
          {matched === undefined ? 'Jobs' : `${grouped(matched)} ${matched === 1 ? 'job' : 'jobs'}`}
          <span className="font-normal text-quiet">, newest first</span>
        </h2>
        <Bar filter={filter} />
      </div>
      {list.error && (
        <p role="alert" className="py-4">
          The list could not be read: {list.error.message}.{' '}
          <button type="button" className="press" onClick={() => void list.refetch()}>
            Read it again
          </button>
        </p>
      )}
      {list.isPending && <p className="py-4 text-quiet">Reading the list …</p>}
      {list.data && jobs.length === 0 && (
        <Nothing filter={filter} searching={list.hasNextPage} empty={!!counts && Object.values(counts).every((n) => n === 0)} />
      )}
      {jobs.length > 0 && <Rows jobs={jobs} open={open} filter={filter} now={now} />}
      {list.hasNextPage && (
        <p className="py-4">
          <button type="button" className="press" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
            {list.isFetchingNextPage ? 'Reading …' : jobs.length ? 'Show more' : 'Look further'}
          </button>
        </p>
      )}
    </section>
  )
}

/** Nothing says why there is nothing to list. */
function Nothing({ filter, searching, empty }: { filter: Filter; searching: boolean; empty: boolean }) {
  if (searching) return <p className="py-4">None among the 20 000 newest jobs looked at; there are older ones.</p>
  if (empty) {
    return (
      <div className="py-4">
        <p>The list is empty because no job has been enqueued yet. This enqueues one:</p>
        <Copyable command={`hmule enqueue tide.predict '{"station":"inner-quay","date":"2026-12-01"}'`} />
      </div>
    )
  }
  const all = filter.state && filterNames.every((n) => n === 'state' || !filter[n])
  return <p className="py-4">{all ? `No job is ${filter.state} now.` : 'No job matches this filter.'}</p>
}

function Rows({ jobs, open, filter, now }: { jobs: Job[]; open?: number; filter: Filter; now: number }) {
  const beside = open !== undefined
  const owned = jobs.some((j) => j.owner)
  const tried = jobs.some((j) => j.tries > 0)
  const wideOnly = beside ? 'max-2xl:hidden' : 'max-xl:hidden'
  const midOnly = beside ? 'max-xl:hidden' : 'max-md:hidden'
  return (
    <table className="w-full table-fixed border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:font-normal [&>th]:pr-4">
          <th className="w-24 text-right">id</th>
          <th className="w-28">state</th>
          <th className="w-36 max-sm:w-auto">task</th>
          <th className={`w-24 ${midOnly}`}>queue</th>
          {tried && <th className={`w-20 text-right ${midOnly}`}>try</th>}
          <th className={`w-28 text-right max-sm:w-24`}>enqueued</th>
          {owned && <th className={`w-40 ${wideOnly}`}>owner</th>}
          <th className={beside ? 'max-lg:hidden' : 'max-sm:hidden'}>note</th>
        </tr>
      </thead>
      <tbody>
        {jobs.map((j) => (
          <Row
            key={j.id}
            j={j}
            filter={filter}
            now={now}
            open={j.id === open}
            owned={owned}
            tried={tried}
            classes={{ midOnly, wideOnly, note: beside ? 'max-lg:hidden' : 'max-sm:hidden' }}
          />
        ))}
      </tbody>
    </table>
  )
}

function Row({
  j,
  filter,
  now,
  open,
  owned,
  tried,
  classes,
}: {
  j: Job
  filter: Filter
  now: number
  open: boolean
  owned: boolean
  tried: boolean
  classes: Record<'midOnly' | 'wideOnly' | 'note', string>
}) {
  const navigate = useNavigate()
  const to = path(filter, open ? undefined : j.id)
  return (
    <tr
      className={`h-[32px] cursor-pointer border-b border-hairline hover:bg-raised [&>td]:truncate [&>td]:pr-4 ${open ? 'bg-raised' : ''}`}
      aria-current={open || undefined}
      data-job={j.id}
      data-state={j.state}
      onClick={() => void navigate(to)}
    >
      <td className="text-right font-mono text-[13px]">
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold text-accent' : 'hover:underline'}>
          {j.id}
        </Link>
      </td>
      <td>
        <StateWord state={j.state} />
      </td>
      <td>{j.task}</td>
      <td className={classes.midOnly}>{j.queue}</td>
      {tried && <td className={`text-right ${classes.midOnly}`}>{j.tries > 0 ? tries(j.tries, j.max_attempts) : ''}</td>}
      <td className="text-right text-quiet" title={moment(j.enqueued_at)}>
        {age(j.enqueued_at, now)}
      </td>
      {owned && (
        <td className={classes.wideOnly}>
          <bdi>{j.owner}</bdi>
        </td>
      )}
      <td className={classes.note} title={j.last_error?.message ?? j.reason_text}>
        {known(j, now)}
      </td>
    </tr>
  )
}

/** known is what is most worth knowing about a job in a row. */
function known(j: Job, now: number): string {
  const by: Partial<Record<State, () => string>> = {
    scheduled: () => (j.next_at ? `starts ${age(j.next_at, now)}` : ''),
    running: () =>
      j.cancel_asked_at ? 'asked to end' : j.started_at && j.tries === 1 ? `since ${age(j.started_at, now).replace(' ago', '')}` : '',
    backoff: () => [j.next_at ? `again ${age(j.next_at, now)}` : '', j.last_error?.message].filter(Boolean).join(' · '),
    dead: () => j.last_error?.message ?? '',
    skipped: () => j.reason_text ?? '',
  }
  return by[j.state]?.() ?? ''
}
