import { Link } from 'react-router'

import type { History, Queue } from '../../api/client'
import { grouped, moment, span } from '../../lib/format'
import { binds } from '../../lib/pace'
import { useNow } from '../../lib/useNow'
import { Spark } from '../../parts/Spark'

const most = 8

/** QueueStrip tells in a line a queue whether it keeps up, those with the most waiting first. */
export function QueueStrip({ queues, history }: { queues?: Queue[]; history?: History }) {
  const all = [...(queues ?? [])].sort(
    (a, b) => b.counts.ready - a.counts.ready || b.out_per_minute - a.out_per_minute || (a.name < b.name ? -1 : 1),
  )
  const shown = all.slice(0, most)
  const now = useNow(1000)
  return (
    <section aria-label="Queues" className="mt-3 overflow-x-auto">
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
            <Row key={q.name} q={q} h={history?.series.find((s) => s.name === q.name)} now={now} />
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

function Row({ q, h, now }: { q: Queue; h?: History['series'][number]; now: number }) {
  const came = h?.points.enqueued.map((n, i) => (n === null ? null : n + (h.points.requeued[i] ?? 0))) ?? []
  const went =
    h?.points.done.map((n, i) =>
      n === null ? null : n + (h.points.dead[i] ?? 0) + (h.points.skipped[i] ?? 0) + (h.points.cancelled[i] ?? 0),
    ) ?? []
  return (
    <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>td]:pr-4" data-queue={q.name}>
      <td className="max-w-[12rem] truncate">
        <Link className="press" to={`/queues/${encodeURIComponent(q.name)}`}>
          <bdi>{q.name}</bdi>
        </Link>
      </td>
      <td className="max-sm:hidden">
        <Spark
          label={`Jobs that came and finished in queue ${q.name} over the last hour`}
          lines={[
            { values: went, ink: 'stroke-done' },
            { values: came, ink: 'stroke-ink' },
          ]}
        />
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

/** Clear tells when no job of a queue waits any more. */
function Clear({ q, now }: { q: Queue; now: number }) {
  const c = q.pace.clear
  if (q.counts.ready + q.counts.held === 0) return <>now</>
  if (!c) return <span className="text-quiet">–</span>
  if (!c.likely) return <span className="font-semibold text-backoff">never</span>
  const soon = Date.parse(c.likely) - now < 60_000
  return (
    <span title={c.latest ? `Between ${moment(c.earliest ?? c.likely)} and ${moment(c.latest)} in nine cases of ten` : undefined}>
      {soon ? 'now' : moment(c.likely).replace(/:\d\d$/, '')}
    </span>
  )
}

function rate(n: number): string {
  return n >= 10 || n === 0 ? String(Math.round(n)) : n.toFixed(1)
}
