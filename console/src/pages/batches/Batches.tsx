import { Link, useNavigate } from 'react-router'

import type { Batch } from '../../api/client'
import { age, grouped } from '../../lib/format'
import { useAddress } from '../../lib/useAddress'
import { useNow } from '../../lib/useNow'
import { useTitle } from '../../lib/title'
import { pill, pillInk } from '../../lib/pill'
import { BatchBeside } from './BatchBeside'
import { BatchWord } from './BatchWord'
import { batchesListed, useBatches } from './queries'
import { Share } from './Share'

const states: Batch['state'][] = ['running', 'stuck', 'done', 'failed', 'cancelled']

/** Batches lists the batches, newest first, and one of them beside. */
export function Batches({ open }: { open?: string }) {
  const [asked, ask] = useAddress('state')
  const state = states.find((s) => s === asked)
  const { data, error } = useBatches(state)
  const now = useNow(1000)
  const stuck = data?.batches.filter((b) => b.state === 'stuck').length ?? 0
  useTitle(open && `Batch ${open}`, stuck > 0 && `${stuck} stuck`, 'Batches')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,34rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,52rem)]' : ''}>
      <section aria-label="Batches" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <div className="flex flex-wrap items-start gap-x-6 gap-y-2 border-b border-hairline pb-2">
          <div className="min-w-0 flex-1">
            <h2 className="text-lg font-semibold">Batches</h2>
            <p className="max-w-[80ch]">
              {data
                ? answer(data.batches, state, stuck)
                : error
                  ? `The batches could not be read: ${error.message}.`
                  : 'Reading the batches …'}
            </p>
          </div>
          <select
            aria-label="Filter by state"
            className={`${pill} bg-ground ${pillInk(!!state)}`}
            value={state ?? ''}
            onChange={(e) => ask(e.target.value)}
          >
            <option value="">state: any</option>
            {states.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </div>
        {data && data.batches.length > 0 && <Rows all={data.batches} open={open} now={now} />}
        {data?.next_cursor && <p className="py-3 text-quiet">The newest {grouped(batchesListed)}; hmule batch list has all.</p>}
      </section>
      {open && <BatchBeside key={open} id={Number(open)} now={now} />}
    </div>
  )
}

function answer(all: Batch[], state: string | undefined, stuck: number): string {
  if (all.length === 0)
    return state ? `No batch is ${state}.` : 'There is no batch. Jobs that wait for one another are enqueued as one: hmule batch run FILE.'
  const n = `${grouped(all.length)} ${all.length === 1 ? 'batch' : 'batches'}`
  if (stuck === 0) return `${n}; none is stuck.`
  return `${n}, of which ${grouped(stuck)} ${stuck === 1 ? 'is' : 'are'} stuck: nothing in ${stuck === 1 ? 'it' : 'them'} goes on until somebody acts.`
}

function Rows({ all, open, now }: { all: Batch[]; open?: string; now: number }) {
  const narrow = open ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className="w-full table-fixed border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal">
          <th className="w-28">state</th>
          <th>name</th>
          <th className={`w-44 ${narrow}`}>owner</th>
          <th className="w-40 max-sm:hidden">progress</th>
          <th className="w-20 text-right">jobs</th>
          <th className={`w-20 text-right ${narrow}`}>dead</th>
          <th className="w-24 text-right">made</th>
        </tr>
      </thead>
      <tbody>
        {all.map((b) => (
          <Row key={b.id} b={b} open={String(b.id) === open} now={now} narrow={narrow} />
        ))}
      </tbody>
    </table>
  )
}

function Row({ b, open, now, narrow }: { b: Batch; open: boolean; now: number; narrow: string }) {
  const navigate = useNavigate()
  const to = open ? '/batches' : `/batches/${b.id}`
  return (
    <tr
      className={`h-[36px] cursor-pointer border-b border-hairline hover:bg-raised [&>td]:pr-5 ${open ? 'bg-raised' : ''}`}
      aria-current={open || undefined}
      data-batch={b.id}
      onClick={() => void navigate(to)}
    >
      <td>
        <BatchWord state={b.state} />
      </td>
      <td className="truncate" title={b.name}>
        <Link to={to} onClick={(e) => e.stopPropagation()} className={open ? 'font-semibold' : 'hover:underline'}>
          <bdi>{b.name || `batch ${b.id}`}</bdi>
        </Link>
        {b.open && <span className="text-quiet">, open</span>}
      </td>
      <td className={`truncate ${narrow}`} title={b.owner}>
        <bdi>{b.owner}</bdi>
      </td>
      <td className="max-sm:hidden">
        <Share counts={b.counts} jobs={b.jobs} />
      </td>
      <td className="text-right">{grouped(b.jobs)}</td>
      <td className={`text-right ${narrow}`}>{b.counts.dead ? grouped(b.counts.dead) : <span className="text-quiet">–</span>}</td>
      <td className="whitespace-nowrap text-right text-quiet">{age(b.made_at, now)}</td>
    </tr>
  )
}
