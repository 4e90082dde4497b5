import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, type MouseEvent, useEffect, useLayoutEffect, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { path, useGo, useHandedOver, useWas } from '../../lib/address'
import { type Counts, type Filter, type Job, type State, narrows, useMayAct } from '../../api/client'
import { type View, mostRows } from '../../api/window'
import { Copyable } from '../../parts/Copyable'
import { age, grouped, moment, tries } from '../../lib/format'
import { StateWord } from '../../parts/Mark'
import { useTitle } from '../../lib/title'
import { useJobWindow } from '../../lib/useJobWindow'
import { useNow } from '../../lib/useNow'
import { Bar } from './Bar'
import { Begins, Jump } from './Jump'
import { Tools } from './Tools'

const rowHeight = 32

const orders: Record<string, string> = { newest: 'newest first', oldest: 'oldest first', next: 'next planned first' }

/** JobList lists the jobs that the address asks for, newest first. */
export function JobList({ filter, open, counts }: { filter: Filter; open?: number; counts?: Counts }) {
  const [view, rows] = useJobWindow(filter)
  const [paused, setPaused] = useState(false)
  const [over, setOver] = useState(false)
  const [scrolled, setScrolled] = useState(false)
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set())
  const [chosenFor, setChosenFor] = useState(rows)
  if (chosenFor !== rows) {
    setChosenFor(rows)
    setChosen(new Set())
  }
  const go = useGo()
  const may = useMayAct()
  const now = useNow(1000)
  const held = paused || over || scrolled || chosen.size > 0
  useEffect(() => rows.hold(held), [rows, held])
  useEffect(() => {
    const look = () => setScrolled(scrollY > 150)
    addEventListener('scroll', look, { passive: true })
    return () => removeEventListener('scroll', look)
  }, [])
  const { jobs, matched } = view
  useTitle(open !== undefined && `Job ${open}`, matched !== undefined && filter.state && `${matched} ${filter.state}`, 'Jobs')
  return (
    <section aria-label="Jobs" aria-busy={!view.began} className="mt-3 min-w-0">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-lg font-semibold" aria-live="polite">
          {titleOf(view)}
        </h2>
        <Bar filter={filter} />
        <div className="ml-auto flex flex-wrap items-center justify-end gap-x-4 gap-y-2 max-sm:ml-0">
          {filter.order !== 'next' && <Jump />}
          <label className="flex items-baseline gap-2 text-quiet">
            <span className="sr-only">Order</span>
            <select
              className="h-[28px] rounded-full border border-hairline bg-ground px-2.5"
              value={filter.order ?? 'newest'}
              onChange={(e) => go({ order: e.target.value === 'newest' ? undefined : e.target.value, from: undefined })}
            >
              {Object.entries(orders).map(([order, words]) => (
                <option key={order} value={order}>
                  {words}
                </option>
              ))}
            </select>
          </label>
          <button type="button" className="press" aria-pressed={paused} onClick={() => setPaused(!paused)}>
            {paused ? 'Go on' : 'Pause'}
          </button>
        </div>
      </div>
      <Tools
        filter={filter}
        jobs={jobs.filter((j) => chosen.has(j.id))}
        shown={jobs}
        matched={matched}
        may={may}
        none={() => setChosen(new Set())}
      >
        <Fresh view={view} show={() => rows.settle()} />
      </Tools>
      {view.error && (
        <p role="alert" className="py-4">
          The list could not be read: {view.error.message}.{' '}
          <button type="button" className="press" onClick={() => rows.again()}>
            Read it again
          </button>
        </p>
      )}
      <HandedOver />
      <Begins filter={filter} />
      {!view.began && !view.error && <p className="py-4 text-quiet">Reading the list …</p>}
      {view.began && jobs.length === 0 && !view.error && (
        <Nothing filter={filter} searching={view.more} empty={!!counts && Object.values(counts).every((n) => n === 0)} />
      )}
      {jobs.length > 0 && (
        <div onMouseEnter={() => setOver(true)} onMouseLeave={() => setOver(false)}>
          <Rows
            view={view}
            open={open}
            filter={filter}
            now={now}
            chosen={chosen}
            choose={may ? setChosen : undefined}
            loadOn={() => rows.loadOn()}
          />
        </div>
      )}
      {view.more && (
        <p className="py-4">
          {view.searchedTo && `Searched ${filter.order === 'oldest' ? 'on' : 'back'} to ${moment(view.searchedTo)}. `}
          <button type="button" className="press" disabled={view.reading} onClick={() => rows.loadOn()}>
            {view.reading ? 'Reading …' : view.searching ? 'Look further' : 'Show more'}
          </button>
        </p>
      )}
      {jobs.length >= mostRows && (
        <p className="py-4 text-quiet">
          The list ends after {grouped(mostRows)} jobs. Narrow the filter to see others, or export them all.
        </p>
      )}
    </section>
  )
}

/** titleOf says how many jobs there are, as far as it is known. */
function titleOf({ matched, jobs, began }: View): string {
  const n = matched ?? jobs.length
  const words = `${grouped(n)} ${n === 1 ? 'job' : 'jobs'}`
  if (!began || (matched === undefined && n === 0)) return 'Jobs'
  return matched === undefined ? `At least ${words}` : words
}

/** HandedOver says of a link to some jobs when it was made. */
function HandedOver() {
  const at = useHandedOver()
  if (!at) return null
  return (
    <p role="note" className="pt-2">
      These jobs were handed over at {moment(at)}. A state that has changed since says “now”.
    </p>
  )
}

/** Fresh shows the new jobs that wait while the list is held. */
function Fresh({ view, show }: { view: View; show: () => void }) {
  return (
    <div className="ml-auto" aria-live="polite">
      {view.fresh > 0 && (
        <button type="button" className="press" onClick={show}>
          {`${view.all ? '' : 'At least '}${grouped(view.fresh)} new`}
        </button>
      )}
    </div>
  )
}

/** Nothing says why there is nothing to list. */
function Nothing({ filter, searching, empty }: { filter: Filter; searching: boolean; empty: boolean }) {
  if (searching) return <p className="py-4">No job matches among those that were looked at so far.</p>
  if (empty) {
    return (
      <div className="py-4">
        <p>The list is empty because no job has been enqueued yet. This enqueues one:</p>
        <Copyable command={`hmule enqueue tide.predict '{"station":"inner-quay","date":"2026-12-01"}'`} />
      </div>
    )
  }
  if (filter.from) return <p className="py-4">No job follows there.</p>
  const alone = filter.state && !narrows({ ...filter, state: undefined })
  return <p className="py-4">{alone ? `No job is ${filter.state!.replaceAll(',', ' or ')} now.` : 'No job matches this filter.'}</p>
}

interface Listed {
  view: View
  open?: number
  filter: Filter
  now: number
  chosen: ReadonlySet<number>
  choose?: (ids: ReadonlySet<number>) => void
  loadOn: () => void
}

function Rows({ view, open, filter, now, chosen, choose, loadOn }: Listed) {
  const { jobs, more } = view
  const beside = open !== undefined
  const columns = columnsOf(jobs, beside, !!choose)
  const body = useRef<HTMLTableSectionElement>(null)
  const [top, setTop] = useState(0)
  useLayoutEffect(() => {
    const measure = () => setTop(body.current ? Math.round(body.current.getBoundingClientRect().top + scrollY) : 0)
    const watch = new ResizeObserver(measure)
    watch.observe(document.body)
    return () => watch.disconnect()
  }, [])
  const virtual = useWindowVirtualizer({ count: jobs.length, estimateSize: () => rowHeight, overscan: 12, scrollMargin: top })
  const items = virtual.getVirtualItems()
  const first = items[0]
  const last = items.at(-1)
  const near = last !== undefined && last.index >= jobs.length - 10
  useEffect(() => {
    if (near && more && !view.searching) loadOn()
  }, [near, more, view.searching, loadOn])
  const anchor = useRef<number>(undefined)
  const toggle = (id: number, whole: boolean) => {
    const next = new Set(chosen)
    const from = jobs.findIndex((j) => j.id === anchor.current)
    const to = jobs.findIndex((j) => j.id === id)
    const ids = whole && from >= 0 ? jobs.slice(Math.min(from, to), Math.max(from, to) + 1).map((j) => j.id) : [id]
    const add = !chosen.has(id)
    for (const each of ids)
      if (add) next.add(each)
      else next.delete(each)
    anchor.current = id
    choose?.(next)
  }
  const all = jobs.every((j) => chosen.has(j.id))
  return (
    <table
      className="w-full table-fixed border-collapse"
      aria-rowcount={jobs.length + 1}
      onKeyDown={(e) => walk(e, (i) => virtual.scrollToIndex(i))}
    >
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:pr-4 [&>th]:font-normal max-sm:[&>th]:pr-2">
          {choose && (
            <th className="w-9 max-sm:w-7">
              <input
                type="checkbox"
                aria-label={all ? 'Choose none' : `Choose the ${jobs.length} jobs that are shown`}
                checked={all}
                onChange={() => choose(all ? new Set() : new Set(jobs.map((j) => j.id)))}
              />
            </th>
          )}
          {columns.map((c) => (
            <th key={c.name} className={c.head}>
              {c.name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody ref={body}>
        {first && first.index > 0 && <tr aria-hidden style={{ height: first.start - top }} />}
        {items.map(({ index }) => (
          <Row
            key={jobs[index]!.id}
            index={index}
            j={jobs[index]!}
            columns={columns}
            filter={filter}
            now={now}
            open={jobs[index]!.id === open}
            gone={view.gone.has(jobs[index]!.id)}
            chosen={chosen.has(jobs[index]!.id)}
            toggle={choose && toggle}
          />
        ))}
        {last && last.index < jobs.length - 1 && <tr aria-hidden style={{ height: virtual.getTotalSize() - (last.end - top) }} />}
      </tbody>
    </table>
  )
}

/** walk moves between the rows by arrow keys. */
function walk(e: KeyboardEvent<HTMLTableElement>, show: (index: number) => void) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  const row = (e.target as HTMLElement).closest('tr[data-index]')
  if (!by || !row || e.shiftKey || e.altKey || e.ctrlKey || e.metaKey) return
  e.preventDefault()
  const index = Number(row.getAttribute('data-index')) + by
  const table = e.currentTarget
  const column = (e.target as HTMLElement).matches('input') ? 'input' : 'a'
  const focus = () => {
    const next = table.querySelector<HTMLElement>(`tr[data-index="${index}"] ${column}`)
    next?.focus()
    return !!next
  }
  if (focus()) return
  show(index)
  requestAnimationFrame(focus)
}

interface Column {
  name: string
  head: string
  cell: string
  of: (j: Job, now: number) => React.ReactNode
  title?: (j: Job) => string | undefined
}

/** columnsOf are the columns of a list; one that would be empty is left out. */
function columnsOf(jobs: Job[], beside: boolean, choosing: boolean): Column[] {
  const wideOnly = beside ? 'max-2xl:hidden' : 'max-xl:hidden'
  const midOnly = beside ? 'max-xl:hidden' : 'max-md:hidden'
  const note = beside ? 'max-lg:hidden' : 'max-sm:hidden'
  const all: (Column | false)[] = [
    { name: 'state', head: 'w-28 max-sm:w-[6.25rem]', cell: '', of: (j) => <State j={j} /> },
    { name: 'task', head: 'w-36 max-sm:w-auto', cell: '', of: (j) => <bdi>{j.task}</bdi>, title: (j) => j.task },
    { name: 'queue', head: `w-24 ${midOnly}`, cell: midOnly, of: (j) => <bdi>{j.queue}</bdi>, title: (j) => j.queue },
    jobs.some((j) => j.tries > 0) && {
      name: 'try',
      head: `w-20 text-right ${midOnly}`,
      cell: `text-right ${midOnly}`,
      of: (j) => (j.tries > 0 ? tries(j.tries, j.max_attempts) : ''),
    },
    {
      name: 'enqueued',
      head: `w-28 text-right ${choosing ? 'max-sm:w-20' : 'max-sm:w-24'}`,
      cell: 'text-right text-quiet',
      of: (j, now) => age(j.enqueued_at, now),
      title: (j) => `${moment(j.enqueued_at)} (${j.enqueued_at})`,
    },
    jobs.some((j) => j.owner) && {
      name: 'owner',
      head: `w-40 ${wideOnly}`,
      cell: wideOnly,
      of: (j) => <bdi>{j.owner}</bdi>,
      title: (j) => j.owner,
    },
    jobs.some((j) => known(j, 0) !== '') && {
      name: 'note',
      head: note,
      cell: note,
      of: (j, now) => <bdi>{known(j, now)}</bdi>,
      title: (j) => j.last_error?.message ?? j.reason_text,
    },
  ]
  const id: Column = { name: 'id', head: 'w-24 text-right max-sm:w-[4.75rem]', cell: 'text-right font-mono text-[13px]', of: (j) => j.id }
  return [id, ...all.filter((c) => c !== false)]
}

/** State is where a job is; of a link that was handed over also where it was then. */
function State({ j }: { j: Job }) {
  const was = useWas(j.id)
  if (!was || was === j.state) return <StateWord state={j.state} />
  return (
    <span title={`${was} when the link was made`}>
      now <StateWord state={j.state} />
    </span>
  )
}

interface Shown {
  index: number
  j: Job
  columns: Column[]
  filter: Filter
  now: number
  open: boolean
  gone: boolean
  chosen: boolean
  toggle?: (id: number, whole: boolean) => void
}

function Row({ index, j, columns, filter, now, open, gone, chosen, toggle }: Shown) {
  const navigate = useNavigate()
  const to = path(filter, open ? undefined : j.id)
  const press = (e: MouseEvent) => {
    if (getSelection()?.type === 'Range') return // a text was marked
    if (e.ctrlKey || e.metaKey) window.open(to)
    else void navigate(to)
  }
  return (
    <tr
      className={`h-[32px] cursor-pointer border-b border-hairline hover:bg-raised [&>td]:truncate [&>td]:pr-4 max-sm:[&>td]:pr-2 ${open || chosen ? 'bg-raised' : ''} ${gone ? 'opacity-60' : ''}`}
      aria-current={open || undefined}
      aria-rowindex={index + 2}
      data-index={index}
      data-job={j.id}
      data-state={j.state}
      onClick={press}
    >
      {toggle && (
        <td onClick={(e) => e.stopPropagation()} className="cursor-default">
          <input
            type="checkbox"
            aria-label={`Choose job ${j.id}`}
            checked={chosen}
            onChange={(e) => toggle(j.id, (e.nativeEvent as unknown as { shiftKey?: boolean }).shiftKey ?? false)}
            onClick={(e) => {
              if (!e.shiftKey) return
              e.preventDefault()
              toggle(j.id, true)
            }}
          />
        </td>
      )}
      {columns.map((c) => (
        <td key={c.name} className={c.cell} title={c.title?.(j)}>
          {c.name === 'id' ? (
            <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold text-accent' : 'hover:underline'}>
              {j.id}
            </Link>
          ) : (
            c.of(j, now)
          )}
        </td>
      ))}
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
