import type { Cause } from '../../api/client'
import { grouped, moment } from '../../lib/format'

const hour = 3_600_000
const width = 440
const rowHeight = 26

type Mark = NonNullable<Cause['marks']>[number]

const markWord = { deploy: 'deploy', settings: 'set-up', pause: 'pause', requeue: 'requeue', restart: 'restart', note: 'note' } as const

/** Failures draws when jobs failed by a cause, a row for each version of the worker program, with what happened meanwhile. */
export function Failures({ c, now }: { c: Cause; now: number }) {
  const versions = c.versions ?? []
  const from = (Math.floor(now / hour) - 47) * hour
  const marks = (c.marks ?? []).filter((m) => Date.parse(m.at) >= from)
  const most = Math.max(1, ...versions.flatMap((v) => v.hours))
  return (
    <section aria-label="Failures by the hour" className="mt-6">
      <h3 className="font-semibold">
        Failures an hour<span className="font-normal text-quiet">, by version of the worker program, over the last 48 hours</span>
      </h3>
      <p className="pb-2">{answer(c)}</p>
      {versions.map((v) => (
        <Row
          key={v.version}
          name={v.version ? `worker ${v.version}` : 'version not told'}
          hours={v.hours}
          most={most}
          marks={marks}
          from={from}
        />
      ))}
      <p className="flex justify-between text-[13px] text-quiet" style={{ maxWidth: width }}>
        <span>48 h ago</span>
        <span>at most {grouped(most)} in one hour</span>
        <span>now</span>
      </p>
      {marks.length > 0 && (
        <ol className="mt-2" aria-label="What happened meanwhile">
          {marks.map((m, i) => (
            <li key={i} className="flex gap-3 py-0.5">
              <span className="w-5 shrink-0 text-right font-mono text-[13px]">{i + 1}</span>
              <span className="w-16 shrink-0 text-quiet">{markWord[m.kind]}</span>
              <span className="min-w-0 flex-1 break-words">
                {m.text}
                {m.by && (
                  <span className="text-quiet">
                    , {m.kind === 'deploy' ? 'on' : 'by'} {m.by}
                  </span>
                )}
              </span>
              <span className="shrink-0 text-quiet">{moment(m.at)}</span>
            </li>
          ))}
        </ol>
      )}
      <Days days={c.days ?? []} />
    </section>
  )
}

/** answer says which version fails, in one sentence. */
function answer(c: Cause): string {
  const failing = (c.versions ?? []).filter((v) => v.hours.some((n) => n > 0))
  if (failing.length === 0) return 'None within the last 48 hours.'
  const last = failing.filter((v) => v.hours.slice(-2).some((n) => n > 0)).map((v) => v.version || 'a version not told')
  if (failing.length === 1)
    return `All under ${failing[0]!.version ? 'version ' + failing[0]!.version : 'a version that was not told'}${last.length ? ', and lately too' : '; none in the last hour'}.`
  return last.length
    ? `Under ${failing.length} versions; lately under ${last.join(' and ')}.`
    : `Under ${failing.length} versions; none in the last hour.`
}

function Row({ name, hours, most, marks, from }: { name: string; hours: number[]; most: number; marks: Mark[]; from: number }) {
  const each = width / hours.length
  const total = hours.reduce((a, b) => a + b, 0)
  const said = `${name}: ${total} failures within 48 hours`
  return (
    <figure className="max-w-full">
      <figcaption className="flex justify-between text-[13px]" style={{ maxWidth: width }}>
        <span>{name}</span>
        <span className="text-quiet">{grouped(total)}</span>
      </figcaption>
      <svg viewBox={`0 0 ${width} ${rowHeight + 12}`} width={width} className="max-w-full" role="img" aria-label={said}>
        <title>{said}</title>
        <path d={`M0 ${rowHeight + 11.5}H${width}`} className="stroke-hairline" />
        {marks.map((m, i) => {
          const x = Math.min(((Date.parse(m.at) - from) / hour) * each, width - 1)
          return (
            <g key={i} className="fill-quiet stroke-quiet">
              <path
                d={`M${x} 10V${rowHeight + 12}`}
                strokeDasharray={m.kind === 'deploy' ? undefined : '2 2'}
                strokeWidth="1"
                fill="none"
              />
              <text x={x} y="8" fontSize="9" textAnchor={x > width - 8 ? 'end' : x < 8 ? 'start' : 'middle'} stroke="none">
                {marks[i + 1] && near(m, marks[i + 1]!) ? '' : firstOf(marks, i) === i ? i + 1 : `${firstOf(marks, i) + 1}–${i + 1}`}
              </text>
            </g>
          )
        })}
        {hours.map((n, i) => {
          const height = Math.max((n / most) * rowHeight, 2)
          return (
            n > 0 && (
              <rect key={i} x={i * each} y={rowHeight + 11 - height} width={Math.max(each - 1, 1.5)} height={height} className="fill-ink" />
            )
          )
        })}
      </svg>
    </figure>
  )
}

/** near tells whether two marks would be written over one another. */
function near(a: Mark, b: Mark): boolean {
  return Date.parse(b.at) - Date.parse(a.at) < 2 * hour
}

/** firstOf is the first of the marks that stand as near together as the i-th does. */
function firstOf(marks: Mark[], i: number): number {
  while (i > 0 && near(marks[i - 1]!, marks[i]!)) i--
  return i
}

/** Days draws the last 31 days, where the failures began earlier than the hours reach. */
function Days({ days }: { days: number[] }) {
  if (!days.slice(0, -2).some((n) => n > 0)) return null
  const most = Math.max(1, ...days)
  const each = width / days.length
  const total = days.reduce((a, b) => a + b, 0)
  const said = `${total} failures within 31 days, at most ${most} in one`
  return (
    <figure className="mt-3">
      <figcaption className="text-[13px]">
        Failures a day<span className="text-quiet">, over the last 31 times 24 hours; at most {grouped(most)} in one</span>
      </figcaption>
      <svg viewBox={`0 0 ${width} ${rowHeight}`} width={width} className="max-w-full" role="img" aria-label={said}>
        <title>{said}</title>
        <path d={`M0 ${rowHeight - 0.5}H${width}`} className="stroke-hairline" />
        {days.map(
          (n, i) =>
            n > 0 && (
              <rect
                key={i}
                x={i * each}
                y={rowHeight - 1 - Math.max((n / most) * (rowHeight - 2), 2)}
                width={each - 2}
                height={Math.max((n / most) * (rowHeight - 2), 2)}
                className="fill-ink"
              />
            ),
        )}
      </svg>
    </figure>
  )
}
