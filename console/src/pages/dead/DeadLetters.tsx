import { Link, useNavigate } from 'react-router'

import { useTitle } from '../../lib/title'
import { search, useFilter } from '../../lib/address'
import { type Cause, useCauses, useInDoubt } from '../../api/client'
import { CauseBeside } from './CauseBeside'
import { age, grouped, ofSchedules } from '../../lib/format'
import { Hours } from './Hours'
import { Template } from './Template'
import { useNow } from '../../lib/useNow'

/** DeadLetters answers: what did jobs die of, how many of each, and since when. */
export function DeadLetters({ open }: { open?: string }) {
  const filter = useFilter()
  const { data, error } = useCauses(filter.queue)
  const now = useNow(1000)
  const chosen = data?.find((c) => String(c.id) === open)
  useTitle(data && `${data.reduce((n, c) => n + c.count, 0)} dead`, 'Dead letters')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <section aria-label="Dead letters" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <div className="border-b border-hairline pb-2">
          <h2 className="text-lg font-semibold">Dead letters</h2>
          <p className="max-w-[80ch]">
            {data ? answer(data) : error ? `The causes could not be read: ${error.message}.` : 'Reading the causes …'}
          </p>
        </div>
        <InDoubt />
        {data && data.length > 0 && <Rows all={data} open={open} now={now} />}
      </section>
      {open && <CauseBeside key={open} id={open} c={chosen} known={!!data} now={now} />}
    </div>
  )
}

function answer(all: Cause[]): string {
  const jobs = all.reduce((n, c) => n + c.count, 0)
  if (jobs === 0) return 'There is no dead letter.'
  const kinds = all.length === 1 ? '1 cause' : `${grouped(all.length)} causes`
  return `${grouped(jobs)} ${jobs === 1 ? 'dead letter' : 'dead letters'}, ${kinds}. Fix the cause, retry a few of its jobs, then retry the rest.`
}

/** InDoubt points at jobs with steps of which nobody knows whether they were done. */
function InDoubt() {
  const { data } = useInDoubt()
  if (!data?.jobs) return null
  return (
    <p className="border-b border-hairline py-2">
      <Link className="press" to="/jobs?steps=in_doubt">
        {data.all ? '' : 'At least '}
        {grouped(data.jobs)} {data.jobs === 1 ? 'job has' : 'jobs have'} a step in doubt
      </Link>
      : it was begun, and whether it was done is not known. Find out before you requeue {data.jobs === 1 ? 'it' : 'them'}.
    </p>
  )
}

function Rows({ all, open, now }: { all: Cause[]; open?: string; now: number }) {
  const narrow = open ? 'max-2xl:hidden' : 'max-lg:hidden'
  return (
    <table className="w-full table-fixed border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal">
          <th className="w-20 text-right">jobs</th>
          <th className="w-32 max-sm:hidden">failures, 2 days</th>
          <th>error, lighter where it varies</th>
          <th className={`w-40 ${narrow}`}>task</th>
          <th className={`w-40 ${narrow}`}>type</th>
          <th className="w-28 text-right">last</th>
        </tr>
      </thead>
      <tbody>
        {all.map((c) => (
          <Row key={c.id} c={c} open={String(c.id) === open} now={now} narrow={narrow} />
        ))}
      </tbody>
    </table>
  )
}

function Row({ c, open, now, narrow }: { c: Cause; open: boolean; now: number; narrow: string }) {
  const filter = useFilter()
  const navigate = useNavigate()
  const to = (open ? '/dead' : `/dead/${c.id}`) + search(filter)
  const tasks = [...new Set(c.by.map((b) => b.task))]
  return (
    <tr
      className={`cursor-pointer border-b border-hairline hover:bg-raised [&>td]:py-1.5 [&>td]:pr-5 [&>td]:align-top ${open ? 'bg-raised' : ''}`}
      aria-current={open || undefined}
      data-cause={c.id}
      onClick={() => void navigate(to)}
    >
      <td className="text-right">
        <Link
          className="press"
          to={`/jobs?state=dead&cause=${c.id}`}
          onClick={(e) => e.stopPropagation()}
          aria-label={`${c.count} jobs: list them`}
        >
          {grouped(c.count)}
        </Link>
      </td>
      <td className="max-sm:hidden">
        <Hours hours={c.hours ?? []} width={104} height={18} />
      </td>
      <td className="break-words">
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold' : 'hover:underline'}>
          <Template text={c.template} />
        </Link>
        {!!c.superseded && <p className="text-[13px] text-quiet">{ofSchedules(c.superseded, c.schedules)}</p>}
      </td>
      <td className={`truncate ${narrow}`}>{tasks.length > 1 ? `${tasks[0]} and ${tasks.length - 1} more` : tasks[0]}</td>
      <td className={`truncate text-quiet ${narrow}`}>{c.type}</td>
      <td className="whitespace-nowrap text-right text-quiet">{age(c.last_at, now)}</td>
    </tr>
  )
}
