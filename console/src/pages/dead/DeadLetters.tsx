import { useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { useTitle } from '../../lib/title'
import { search, useFilter } from '../../lib/address'
import { type Cause, useCauses, useInDoubt } from '../../api/client'
import { CauseBeside } from './CauseBeside'
import { age, grouped, moment, ofSchedules } from '../../lib/format'
import { Heading } from '../../parts/Heading'
import { Hours } from './Hours'
import { SearchField } from '../../parts/SearchField'
import { sinceBegun } from './sinceBegun'
import { Template } from './Template'
import { useLastLook } from '../../lib/lastLook'
import { useNow } from '../../lib/useNow'

/** How many causes are shown at first. */
const shownAtFirst = 100

/** DeadLetters answers: what did jobs die of, how many of each, and since when. */
export function DeadLetters({ open }: { open?: string }) {
  const filter = useFilter()
  const { data, error } = useCauses(filter.queue)
  const now = useNow(1000)
  const looked = useLastLook('dead letters')
  const chosen = data?.find((c) => String(c.id) === open)
  useTitle(data && `${data.reduce((n, c) => n + c.count, 0)} dead`, 'Dead letters')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <section aria-label="Dead letters" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <Heading
          title="Dead letters"
          list={'/v1/causes' + (filter.queue ? `?queue=${encodeURIComponent(filter.queue)}` : '')}
          empty={!data?.length}
        >
          {data ? answer(data, looked) : error ? `The causes could not be read: ${error.message}.` : 'Reading the causes …'}
        </Heading>
        <InDoubt />
        {data && data.length > 0 && <Rows all={data} open={open} now={now} looked={looked} />}
      </section>
      {open && <CauseBeside key={open} id={open} c={chosen} known={!!data} now={now} />}
    </div>
  )
}

function answer(all: Cause[], looked: number): string {
  const jobs = all.reduce((n, c) => n + c.count, 0)
  if (jobs === 0) return 'There is no dead letter.'
  const kinds = all.length === 1 ? '1 cause' : `${grouped(all.length)} causes`
  const fresh = looked > 0 ? all.filter((c) => Date.parse(c.first_at) > looked).length : 0
  const since =
    fresh > 0
      ? ` ${grouped(fresh)} ${fresh === 1 ? 'is' : 'are'} new since you last looked, at ${moment(new Date(looked).toISOString())}.`
      : ''
  return `${grouped(jobs)} ${jobs === 1 ? 'dead letter' : 'dead letters'}, ${kinds}.${since} Fix the cause, retry a few of its jobs, then retry the rest.`
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

/** placesOf says where the jobs of a cause failed: in one place all, or in how many. */
function placesOf(c: Cause): string {
  const distinct = (of: (b: Cause['by'][number]) => string | undefined) => [...new Set(c.by.map(of).filter((v) => v))] as string[]
  const [tasks, hosts, versions] = [distinct((b) => b.task), distinct((b) => b.host), distinct((b) => b.version)]
  const parts = [tasks.length > 1 ? `${tasks[0]} and ${tasks.length - 1} more` : (tasks[0] ?? '')]
  if (hosts.length > 0) parts.push(hosts.length === 1 ? `all on ${hosts[0]}` : `${hosts.length} hosts`)
  if (versions.length > 0) parts.push(versions.length === 1 ? `version ${versions[0]}` : `${versions.length} versions`)
  return parts.join(' · ')
}

function Rows({ all, open, now, looked }: { all: Cause[]; open?: string; now: number; looked: number }) {
  const narrow = open ? 'max-2xl:hidden' : 'max-lg:hidden'
  const [sought, setSought] = useState('')
  const [most, setMost] = useState(shownAtFirst)
  const fits = (c: Cause) => `${c.template} ${c.type} ${placesOf(c)}`.toLowerCase().includes(sought.toLowerCase())
  const found = sought ? all.filter(fits) : all
  return (
    <>
      <SearchField among={all.length} what="causes" sought={sought} seek={setSought} />
      <table className="w-full table-fixed border-collapse">
        <thead className="text-left text-[13px] text-quiet">
          <tr className="h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal">
            <th className="w-20 text-right">jobs</th>
            <th className="w-32 max-sm:hidden">since it began</th>
            <th>error, lighter where it varies</th>
            <th className={`w-80 ${narrow}`}>where</th>
            <th className="w-28 text-right">last</th>
          </tr>
        </thead>
        <tbody>
          {found.slice(0, most).map((c) => (
            <Row
              key={c.id}
              c={c}
              open={String(c.id) === open}
              now={now}
              narrow={narrow}
              fresh={looked > 0 && Date.parse(c.first_at) > looked}
            />
          ))}
        </tbody>
      </table>
      {found.length === 0 && <p className="py-4">No cause matches “{sought}”.</p>}
      {found.length > most && (
        <button type="button" className="press py-3" onClick={() => setMost(most + shownAtFirst)}>
          Show more of {grouped(found.length)} causes
        </button>
      )}
    </>
  )
}

function Row({ c, open, now, narrow, fresh }: { c: Cause; open: boolean; now: number; narrow: string; fresh: boolean }) {
  const filter = useFilter()
  const navigate = useNavigate()
  const to = (open ? '/dead' : `/dead/${c.id}`) + search(filter)
  const spark = sinceBegun(c, now)
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
          to={'/jobs' + search({ state: 'dead', queue: filter.queue, cause: String(c.id) })}
          onClick={(e) => e.stopPropagation()}
          aria-label={`${c.count} jobs: list them`}
        >
          {grouped(c.count)}
        </Link>
      </td>
      <td className="max-sm:hidden" title={spark.words}>
        <Hours hours={spark.counts} words={spark.words} width={104} height={18} />
      </td>
      <td className="break-words">
        {fresh && <span className="mr-2 font-semibold text-accent">new</span>}
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold' : 'hover:underline'}>
          <bdi>
            <Template text={c.template} />
          </bdi>
        </Link>
        {!!c.superseded && <p className="text-[13px] text-quiet">{ofSchedules(c.superseded, c.schedules)}</p>}
      </td>
      <td className={`truncate ${narrow}`} title={`${placesOf(c)}; ${c.type}`}>
        <bdi>{placesOf(c)}</bdi>
      </td>
      <td className="whitespace-nowrap text-right text-quiet">{age(c.last_at, now)}</td>
    </tr>
  )
}
