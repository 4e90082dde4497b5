import { lazy, Suspense, useState } from 'react'
import { Link } from 'react-router'

import { type History, type Span, spans, useHistory } from '../../api/client'
import { day, clock, grouped } from '../../lib/format'
import type { Line } from '../../parts/Chart'

const Chart = lazy(() => import('../../parts/Chart').then((m) => ({ default: m.Chart })))

const height = 212

/** Flow draws how many jobs came and finished a minute, over a span that can be chosen, with the figures as a table a press away. */
export function Flow({ span, choose }: { span: Span; choose: (s: Span) => void }) {
  const { data, error } = useHistory(span)
  const [table, setTable] = useState(false)
  const lines = data ? linesOf(data) : []
  return (
    <section aria-label="Are we keeping up?" className="min-w-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="font-semibold">Are we keeping up?</h2>
        <p className="text-quiet max-sm:hidden">Jobs a minute, {spans[span].words}</p>
        <div role="group" aria-label="How far back" className="flex gap-3">
          {(['hour', 'day', 'month'] as const).map((s) => (
            <button
              key={s}
              type="button"
              aria-pressed={s === span}
              className={s === span ? 'min-h-[24px] border-b-2 border-accent text-accent' : 'min-h-[24px] text-quiet hover:text-ink'}
              onClick={() => choose(s)}
            >
              {s === 'month' ? '30 days' : s}
            </button>
          ))}
        </div>
        <Link className="press ml-auto" to="/compare">
          Did it help?
        </Link>
        <button type="button" aria-pressed={table} className="press" onClick={() => setTable(!table)}>
          {table ? 'Chart' : 'Figures'}
        </button>
      </div>
      <div style={{ minHeight: height + 20 }}>
        {error && <p role="alert">The history could not be read: {error.message}.</p>}
        {data && table && <Figures h={data} lines={lines} />}
        {data && !table && (
          <Suspense>
            <Chart
              times={timesOf(data)}
              lines={lines}
              marks={data.marks.map((m) => ({
                at: m.at,
                text: m.kind === 'deploy' ? m.text.replace('version ', '') + ' deployed' : m.text,
              }))}
              height={height}
              unit="a minute"
              label={`Jobs per minute over ${spans[span].words}: ${grouped(came(data))} came and ${grouped(data.total.sum.done)} were done in all`}
            />
          </Suspense>
        )}
      </div>
    </section>
  )
}

function came(h: History): number {
  return h.total.sum.enqueued + h.total.sum.requeued
}

function timesOf(h: History): number[] {
  const from = Date.parse(h.from) / 1000
  return h.total.points.done.map((_, i) => from + (i * h.step_ms) / 1000)
}

/** linesOf gives rates a minute. The step under way is left out: it is not over yet. */
function linesOf(h: History): Line[] {
  const p = h.total.points
  const minutes = h.step_ms / 60_000
  const last = p.done.length - 1
  const rate = (...parts: (number | null)[][]) =>
    parts[0]!.map((_, i) => (i === last || parts[0]![i] === null ? null : parts.reduce((sum, part) => sum + (part[i] ?? 0), 0) / minutes))
  return [
    { name: 'came in', values: rate(p.enqueued, p.requeued), ink: 'ink' },
    { name: 'done', values: rate(p.done), ink: 'done', filled: true },
    { name: 'failed', values: rate(p.failed), ink: 'dead', filled: true },
  ]
}

function Figures({ h, lines }: { h: History; lines: Line[] }) {
  const times = timesOf(h)
  return (
    <div className="overflow-y-auto" style={{ maxHeight: height + 20 }} tabIndex={0} role="region" aria-label="The figures">
      <table className="w-full border-collapse">
        <thead className="text-left text-[13px] text-quiet">
          <tr className="border-b border-hairline [&>th]:font-normal">
            <th>from</th>
            {lines.map((l) => (
              <th key={l.name} className="text-right">
                {l.name} a minute
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {times
            .map((t, i) => ({ t, i }))
            .filter(({ i }) => lines.some((l) => l.values[i] !== null))
            .reverse()
            .map(({ t, i }) => (
              <tr key={t} className="border-b border-hairline">
                <td>
                  {day(new Date(t * 1000))} {clock(new Date(t * 1000)).slice(0, 5)}
                </td>
                {lines.map((l) => (
                  <td key={l.name} className="text-right">
                    {l.values[i] === null ? '' : l.values[i]!.toFixed(1)}
                  </td>
                ))}
              </tr>
            ))}
        </tbody>
      </table>
    </div>
  )
}
