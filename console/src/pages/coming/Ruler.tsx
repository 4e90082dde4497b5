import { Link } from 'react-router'

import type { Coming, ScheduleStatus } from '../../api/client'
import { clock } from '../../lib/format'
import { oftenWords } from './schedules'

const left = 4
const base = 74
const height = 104

/** Ruler draws the day to come: what comes all the time as a band with its rate, and of the rest a tick for what falls together within some minutes, higher where it is more; runs above the line, jobs below. */
export function Ruler({ c, schedules, width }: { c: Coming; schedules: ScheduleStatus[]; width: number }) {
  const from = Date.parse(c.as_of)
  const to = Date.parse(c.until)
  const x = (ms: number) => left + ((ms - from) / (to - from)) * (width - 2 * left)
  const size = (n: number) => (n > 0 ? 4 + 5 * Math.log2(1 + n) : 0)
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width={width}
      height={height}
      className="block max-w-full"
      role="img"
      aria-label="What becomes due within the next 24 hours"
    >
      {hours(from, to).map((h) => (
        <g key={h}>
          <path d={`M${x(h)} ${base - 3}v6`} className="stroke-quiet" />
          {new Date(h).getHours() % (width < 700 ? 6 : 3) === 0 && (
            <text
              x={Math.min(Math.max(x(h), 16), width - 16)}
              y={height - 4}
              fontSize="11"
              textAnchor="middle"
              className={new Date(h).getHours() === 0 ? 'fill-ink font-semibold' : 'fill-quiet'}
            >
              {new Date(h).getHours() === 0 ? new Date(h).toLocaleDateString([], { weekday: 'short' }) : clock(new Date(h)).slice(0, 5)}
            </text>
          )}
        </g>
      ))}
      <path d={`M${left} ${base}H${width - left}`} className="stroke-ink" />
      {c.often.length > 0 && (
        <g>
          <title>{c.often.map(oftenWords).join('; ')}</title>
          <rect x={left} y={base - 9} width={width - 2 * left} height="8" className="fill-scheduled" opacity="0.25" />
        </g>
      )}
      {c.seldom.map(
        (n, i) =>
          n > 0 && (
            <path
              key={i}
              d={`M${x(from + (i + 0.5) * c.step_ms)} ${base - 1}v${-size(n)}`}
              className="stroke-ink"
              strokeWidth={Math.min(1 + Math.log10(n), (width / c.seldom.length) * 0.55)}
            />
          ),
      )}
      {c.jobs.map(
        (n, i) =>
          n > 0 && (
            <path
              key={i}
              d={`M${x(from + (i + 0.5) * c.step_ms)} ${base + 2}v${Math.min(size(n) / 2, 18)}`}
              className="stroke-scheduled"
              strokeWidth="2"
            />
          ),
      )}
      {clockChanges(from, to).map((at) => (
        <g key={at}>
          <path d={`M${x(at)} 12V${base}`} className="stroke-dead" strokeDasharray="3 3" />
          <text x={x(at) + 4} y="14" fontSize="11" className="fill-ink">
            clocks change
          </text>
        </g>
      ))}
      <Named schedules={schedules} x={x} to={to} width={width} />
    </svg>
  )
}

/** Named labels the runs that come seldom. */
function Named({ schedules, x, to, width }: { schedules: ScheduleStatus[]; x: (ms: number) => number; to: number; width: number }) {
  const seldom = schedules.flatMap((s) => {
    const [first, second] = s.next.map((n) => Date.parse(n.utc))
    return first && first < to && (!second || second - first >= 2 * 3600_000) ? [{ name: s.name, at: first }] : []
  })
  seldom.sort((a, b) => a.at - b.at)
  let end = -1
  return seldom.map((s) => {
    const at = x(s.at)
    const long = s.name.length * 6.2
    const back = at + long > width
    const start = back ? at - long : at
    const fits = start > end
    if (fits) end = start + long + 8
    return (
      <Link key={s.name} to={`/coming/${s.name}`}>
        <title>{`${s.name} at ${clock(new Date(s.at))}`}</title>
        <path d={`M${at} ${base}V26`} className="stroke-ink" strokeWidth="2" />
        {fits && (
          <text x={back ? at - 4 : at + 4} y="34" fontSize="12" textAnchor={back ? 'end' : 'start'} className="fill-ink">
            {s.name}
          </text>
        )}
      </Link>
    )
  })
}

/** hours are the full hours of a span, by the reader's clock. */
function hours(from: number, to: number): number[] {
  const first = new Date(from)
  first.setMinutes(60, 0, 0)
  const all = []
  for (let at = first.getTime(); at < to; at += 3600_000) all.push(at)
  return all
}

/** clockChanges are the moments at which the reader's clocks change. */
function clockChanges(from: number, to: number): number[] {
  const all = []
  for (let at = from; at < to; at += 900_000) {
    const next = at + 900_000
    if (new Date(at).getTimezoneOffset() !== new Date(next).getTimezoneOffset()) all.push(Math.ceil(at / 900_000) * 900_000)
  }
  return all
}
