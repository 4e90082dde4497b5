import { lazy, Suspense, useState } from 'react'
import { Link } from 'react-router'

import { type History, type Span, spans, useHistory } from '../../api/client'
import { announce } from '../../lib/announce'
import { base } from '../../lib/base'
import { day, clock, grouped, moment } from '../../lib/format'
import { type Interval, before } from '../../lib/interval'
import type { Line } from '../../parts/Chart'

const Chart = lazy(() => import('../../parts/Chart').then((m) => ({ default: m.Chart })))

const height = 212

/**
 * Flow draws how many jobs came and finished a minute, over a span that can be chosen, also on the
 * chart itself, with the figures as a table a press away.
 */
export function Flow({ span, choose }: { span: Span | Interval; choose: (s: Span | Interval) => void }) {
  const { data, error } = useHistory(span)
  const [table, setTable] = useState(false)
  const past = typeof span !== 'string' ? span : undefined
  const words = typeof span === 'string' ? spans[span].words : between(span)
  const lines = data ? linesOf(data) : []
  return (
    <section aria-label="Are we keeping up?" className="min-w-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="font-semibold">Are we keeping up?</h2>
        <p className="text-quiet max-sm:hidden">Jobs a minute, {words}</p>
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
        <Link className="press ml-auto" to={past ? `/compare?a=${before(past).join('/')}&b=${past.join('/')}` : '/compare'}>
          {past ? 'Compare with before' : 'Did it help?'}
        </Link>
        {past && (
          <Link className="press" to={`/jobs?since=${past[0]}&until=${past[1]}`}>
            Its jobs
          </Link>
        )}
        {data && (
          <button type="button" className="press max-sm:hidden" onClick={() => copyLink([data.from, past ? data.to : data.as_of])}>
            Copy a link
          </button>
        )}
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
              label={`Jobs per minute, ${words}: ${grouped(came(data))} came and ${grouped(data.total.sum.done)} were done in all`}
              choose={(from, to) => choose([new Date(from * 1000).toISOString(), new Date(to * 1000).toISOString()])}
            />
          </Suspense>
        )}
      </div>
    </section>
  )
}

/** between says from when to when an interval goes, in the reader's zone. */
function between([from, to]: Interval): string {
  const whole = (time: string) => moment(time).replace(/:00$/, '')
  return `${whole(from)} to ${whole(to)}`
}

/** copyLink copies the address of the page with the chart as it is now. */
function copyLink(shown: Interval) {
  const link = `${location.origin}${base}/?in=${shown.join('/')}`
  navigator.clipboard.writeText(link).then(
    () => announce('The link to this chart as it is now was copied.'),
    () => announce('The link could not be copied: the browser does not allow it here.'),
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
  const last = Date.parse(h.to) > Date.parse(h.as_of) - 1000 ? p.done.length - 1 : p.done.length
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
