import { Link } from 'react-router'

import type { History, Queue } from '../../api/client'
import { grouped, span } from '../../lib/format'
import { binds, rate } from '../../lib/pace'
import { useNow } from '../../lib/useNow'
import { Clear } from '../../parts/Clear'
import { QueueSpark } from '../../parts/QueueSpark'

const most = 8

/** QueueStrip tells in a line a queue whether it keeps up, those with the most waiting first. */
export function QueueStrip({ queues, history }: { queues?: Queue[]; history?: History }) {
  const all = [...(queues ?? [])].sort(
    (a, b) => b.counts.ready - a.counts.ready || b.out_per_minute - a.out_per_minute || (a.name < b.name ? -1 : 1),
  )
  const shown = all.slice(0, most)
  const now = useNow(1000)
  return (
    <section aria-label="Queues" className="min-w-0 overflow-x-auto xl:mt-3">
      <h2 className="font-semibold">Queues</h2>
      <table className="w-full border-collapse">
        <thead className="text-left text-[13px] text-quiet">
          <tr className="h-[26px] border-b border-hairline whitespace-nowrap [&>th]:pr-4 [&>th]:font-normal">
            <th>queue</th>
            <th className="max-sm:hidden">last hour, in over out</th>
            <th className="text-right">ready</th>
            <th className="text-right">running</th>
            <th className="text-right max-sm:hidden">in / min</th>
            <th className="text-right max-sm:hidden">out / min</th>
            <th className="text-right">oldest</th>
            <th className="text-right">clear by</th>
            <th className="w-full max-md:hidden">{shown.some((q) => binds(q)) && 'held back by'}</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((q) => (
            <Row key={q.name} q={q} history={history} now={now} />
          ))}
        </tbody>
      </table>
      {all.length > most && (
        <p className="py-1.5">
          <Link className="press" to="/queues">
            All {grouped(all.length)} queues
          </Link>
        </p>
      )}
      {queues?.length === 0 && <p className="py-2 text-quiet">There is no queue yet: one exists from its first job.</p>}
    </section>
  )
}

function Row({ q, history, now }: { q: Queue; history?: History; now: number }) {
  return (
    <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>td]:pr-4" data-queue={q.name}>
      <td className="max-w-[12rem] truncate">
        <Link className="press" to={`/queues/${encodeURIComponent(q.name)}`}>
          <bdi>{q.name}</bdi>
        </Link>
      </td>
      <td className="max-sm:hidden">
        <QueueSpark q={q} history={history} />
      </td>
      <td className={`text-right ${q.counts.ready ? 'font-semibold' : ''}`}>{grouped(q.counts.ready)}</td>
      <td className="text-right">{grouped(q.running)}</td>
      <td className="text-right max-sm:hidden">{rate(q.in_per_minute)}</td>
      <td className="text-right max-sm:hidden">{rate(q.out_per_minute)}</td>
      <td className="text-right">{q.counts.ready > 0 ? span(q.oldest_ready_ms) : '–'}</td>
      <td className="text-right">
        <Clear q={q} now={now} />
      </td>
      <td className="max-w-0 truncate text-quiet max-md:hidden">{binds(q)}</td>
    </tr>
  )
}
