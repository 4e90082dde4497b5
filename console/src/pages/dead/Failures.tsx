import type { Cause } from '../../api/client'
import { grouped, moment } from '../../lib/format'

const hour = 3_600_000
const width = 440
const rowHeight = 26

type Mark = NonNullable<Cause['marks']>[number]
type Share = NonNullable<Mark['before']>

const markWord = { deploy: 'deploy', settings: 'set-up', pause: 'pause', requeue: 'requeue', restart: 'restart', note: 'note' } as const

interface Part {
  name: string
  hours: number[]
}

/** Failures draws when jobs failed by a cause, a row for each version of the worker program and each host, with what happened meanwhile. */
export function Failures({ c, now }: { c: Cause; now: number }) {
  const versions = (c.versions ?? []).map((v) => ({ name: v.version ? `version ${v.version}` : 'version not known', hours: v.hours }))
  const hosts = (c.hosts ?? []).map((h) => ({ name: h.host || 'host not known', hours: h.hours }))
  const from = (Math.floor(now / hour) - 47) * hour
  const marks = (c.marks ?? []).filter((m) => Date.parse(m.at) >= from)
  const most = Math.max(1, ...[...versions, ...hosts].flatMap((v) => v.hours))
  return (
    <section aria-label="Failures by the hour" className="mt-6">
      <h3 className="font-semibold">
        Is it one version, or one host?<span className="font-normal text-quiet"> Failures an hour, over the last 48 hours</span>
      </h3>
      <p className="pb-2">
        {answer(versions, 'version')} {answer(hosts, 'host')}
      </p>
      {versions.map((v) => (
        <Row key={v.name} {...v} most={most} marks={marks} from={from} />
      ))}
      {hosts.length > 1 && hosts.slice(0, mostHosts).map((h) => <Row key={h.name} {...h} most={most} marks={[]} from={from} />)}
      {hosts.length > mostHosts && (
        <p className="text-quiet">
          And {hosts.length - mostHosts} more {hosts.length - mostHosts === 1 ? 'host' : 'hosts'}.
        </p>
      )}
      <p className="flex justify-between text-[13px] text-quiet" style={{ maxWidth: width }}>
        <span>48 h ago</span>
        <span>at most {grouped(most)} in one hour</span>
        <span>now</span>
      </p>
      {marks.length > 0 && <Marks all={marks} />}
      <Days days={c.days ?? []} />
    </section>
  )
}

const mostHosts = 8

/** answer says in which of some parts jobs fail, in one sentence. */
function answer(parts: Part[], what: string): string {
  const failing = parts.filter((v) => v.hours.some((n) => n > 0))
  if (failing.length === 0) return what === 'version' ? 'None within the last 48 hours.' : ''
  const last = failing.filter((v) => v.hours.slice(-2).some((n) => n > 0)).map((v) => v.name)
  if (failing.length === 1) return `All ${what === 'version' ? 'under' : 'on'} ${failing[0]!.name}.`
  const lately =
    last.length > 0 && last.length < failing.length ? `; lately ${what === 'version' ? 'under' : 'on'} ${last.join(' and ')}` : ''
  return `${what === 'version' ? 'Under' : 'On'} ${failing.length} ${what}s${lately}.`
}

/** Marks lists what happened meanwhile, with the failures in the hour before and in the hour after. */
function Marks({ all }: { all: Mark[] }) {
  return (
    <table className="mt-2 w-full" aria-label="What happened meanwhile">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[28px] border-b border-hairline [&>th]:pr-3 [&>th]:font-normal">
          <th className="w-6" />
          <th className="w-full whitespace-nowrap">what happened</th>
          <th className="text-right" title="Failed attempts by this cause, of those started, in the hour before">
            hour before
          </th>
          <th className="text-right" title="The same in the hour after, as far as it is over">
            hour after
          </th>
          <th className="text-right">at</th>
        </tr>
      </thead>
      <tbody>
        {all.map((m, i) => (
          <tr key={i} className="border-b border-hairline align-top [&>td]:py-1 [&>td]:pr-3">
            <td className="text-right font-mono text-[13px]">{i + 1}</td>
            <td className="wrap-anywhere">
              <span className="text-quiet">{markWord[m.kind]} </span>
              <bdi>{m.text}</bdi>
              {m.by && (
                <span className="text-quiet">
                  , {m.kind === 'deploy' ? 'on' : 'by'} <bdi>{m.by}</bdi>
                </span>
              )}
            </td>
            <td className="text-right sm:whitespace-nowrap">{shareOf(m.before)}</td>
            <td className={`text-right sm:whitespace-nowrap ${worse(m) ? 'font-semibold' : ''}`}>{shareOf(m.after)}</td>
            <td className="text-right text-quiet sm:whitespace-nowrap">{moment(m.at).replace(/:\d\d$/, '')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** nbsp is a space at which no line breaks. */
const nbsp = '\u00a0'

/** shareOf writes how many attempts failed, and what part of those started they are; it breaks in between alone. */
function shareOf(s?: Share): string {
  if (!s || s.minutes === 0) return ''
  if (s.started === 0) return s.failed === 0 ? 'nothing ran' : grouped(s.failed)
  const part = (100 * s.failed) / s.started
  return (
    `${grouped(s.failed)} of ${grouped(s.started)}`.replaceAll(' ', nbsp) +
    `, ${part > 0 && part < 1 ? '<' + nbsp + '1' : Math.round(part)}${nbsp}%`
  )
}

/** worse tells whether a clearly larger part failed after a mark than before. */
function worse({ before: b, after: a }: Mark): boolean {
  if (!a || a.started < 10 || !b) return false
  return a.failed / a.started > 2 * (b.started > 0 ? b.failed / b.started : 0) + 0.02
}

function Row({ name, hours, most, marks, from }: Part & { most: number; marks: Mark[]; from: number }) {
  const each = width / hours.length
  const total = hours.reduce((a, b) => a + b, 0)
  const said = `${name}: ${total} failures within 48 hours`
  return (
    <figure className="max-w-full">
      <figcaption className="flex justify-between text-[13px]" style={{ maxWidth: width }}>
        <bdi className="truncate">{name}</bdi>
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
        Failures a day<span className="text-quiet">, over the last 31 days of UTC; at most {grouped(most)} in one</span>
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
