import { useState } from 'react'

import { type Forecast, type Pace, useForecast } from '../../api/client'
import { clock, localTimes, moment } from '../../lib/format'
import { useAddress } from '../../lib/useAddress'
import { useSettled } from '../../lib/useSettled'
import { useWidth } from '../../lib/useWidth'

/** Outlook answers: when is the queue clear, what keeps it from going faster, and what would other slots change? */
export function Outlook({ name }: { name: string }) {
  const [slotsAsked, askSlots] = useAddress('slots')
  const [timeAsked, askTime] = useAddress('by')
  // What is typed stands here at once; the address follows.
  const [slots, setSlots] = useState(Number(slotsAsked) > 0 ? Number(slotsAsked) : undefined)
  const [time, setTime] = useState(timeAsked)
  const asked = useSettled(slots === undefined ? '' : String(slots), 250, (text) => (text ? Number(text) : undefined))
  const by = next(time)
  const { data, error } = useForecast(name, asked, by)
  if (!data) return <p className="py-3 text-quiet">{error ? `The forecast could not be read: ${error.message}.` : 'Reckoning …'}</p>
  const most = Math.max(20, 3 * data.slots, slots ?? 0)
  return (
    <section aria-label="When is it clear?" className="pt-3">
      <h3 className="font-semibold">When is it clear?</h3>
      <p className="max-w-[70ch]">{localTimes(data.summary.filter((s) => !s.startsWith('With ')).join(' '))}</p>
      {data.clear && data.waiting > 0 && <Fan f={data} by={by} />}
      {data.binds !== 'pause' && (
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2 pt-2">
          <label className="flex items-center gap-3">
            <span className="w-24 text-quiet">with {slots ?? data.slots} slots</span>
            <input
              type="range"
              min={1}
              max={most}
              value={Math.max(slots ?? data.slots, 1)}
              className="w-44 accent-accent"
              onChange={(e) => {
                setSlots(Number(e.target.value))
                askSlots(e.target.value)
              }}
            />
          </label>
          <label className="flex items-center gap-2">
            <span className="text-quiet">to be clear by</span>
            <input
              className="field w-16 placeholder:text-quiet"
              inputMode="numeric"
              placeholder="08:00"
              value={time}
              aria-invalid={time !== '' && !by}
              onChange={(e) => {
                setTime(e.target.value.trim())
                askTime(e.target.value.trim())
              }}
            />
          </label>
        </div>
      )}
      <p aria-live="polite" className="min-h-[21px]">
        {slots !== undefined && localTimes(data.summary.find((s) => s.startsWith('With ')) ?? '')}
      </p>
    </section>
  )
}

/** next is when a time of day comes next; nothing where none is written. */
function next(time: string): string | undefined {
  const parts = /^([01]?\d|2[0-3]):([0-5]\d)$/.exec(time)
  if (!parts) return undefined
  const at = new Date()
  at.setHours(Number(parts[1]), Number(parts[2]), 0, 0)
  if (at.getTime() <= Date.now()) at.setDate(at.getDate() + 1)
  return at.toISOString()
}

const height = 62
const day = 86_400_000

/** Fan draws when the queue is clear as it is, and with other slots: the likely time within its range, and the deadline across. */
function Fan({ f, by }: { f: Forecast; by?: string }) {
  const [box, width] = useWidth<HTMLDivElement>()
  const rows: [string, Pace][] = [['as it is', f]]
  if (f.with) rows.push([`${f.with.slots} slots`, f.with])
  const from = Date.parse(f.as_of)
  const ends = rows.flatMap(([, p]) => [p.clear?.latest, p.clear?.likely, by].filter(Boolean).map((t) => Date.parse(t!)))
  const to = Math.min(Math.max(from + 600_000, ...ends) + 60_000, from + 2 * day)
  const left = 64
  const x = (ms: number) => left + ((Math.min(ms, to) - from) / (to - from)) * (width - left - 44)
  return (
    <div ref={box} className="pt-2">
      {width > 0 && (
        <svg
          width={width}
          height={height}
          className="block"
          role="img"
          aria-label="When the queue is clear: the likely time, and the range that holds in nine cases of ten"
        >
          {rows.map(([name, p], i) => (
            <Row key={name} name={name} p={p} y={12 + i * 20} x={x} left={left} from={from} to={to} />
          ))}
          <path d={`M${left} ${height - 16}H${width - 44}`} className="stroke-hairline" />
          <text x={left} y={height - 3} fontSize="11" className="fill-quiet">
            now
          </text>
          <text x={width - 44} y={height - 3} fontSize="11" textAnchor="end" className="fill-quiet">
            {moment(new Date(to).toISOString()).replace(/:\d\d$/, '')}
          </text>
          {by && (
            <>
              <path d={`M${x(Date.parse(by))} 2V${height - 16}`} className="stroke-accent" strokeDasharray="4 3" />
              <text x={x(Date.parse(by))} y={height - 3} fontSize="11" textAnchor="middle" className="fill-accent">
                {clock(by).slice(0, 5)}
              </text>
            </>
          )}
        </svg>
      )}
    </div>
  )
}

function Row({
  name,
  p,
  y,
  x,
  left,
  from,
  to,
}: {
  name: string
  p: Pace
  y: number
  x: (ms: number) => number
  left: number
  from: number
  to: number
}) {
  const c = p.clear
  const at = (t?: string) => (t ? Date.parse(t) : undefined)
  const [earliest, likely, latest] = [at(c?.earliest), at(c?.likely), at(c?.latest)]
  return (
    <>
      <text x="0" y={y + 4} fontSize="12" className="fill-quiet">
        {name}
      </text>
      {earliest === undefined ? (
        <text x={left} y={y + 4} fontSize="12" className="fill-ink">
          never at this rate
        </text>
      ) : (
        <rect
          x={x(earliest)}
          y={y - 5}
          width={Math.max(x(latest ?? to) - x(earliest), 2)}
          height="10"
          className="fill-running"
          opacity="0.3"
        />
      )}
      {likely !== undefined && likely >= from && (
        <>
          <path d={`M${x(likely)} ${y - 7}v14`} className="stroke-running" strokeWidth="2.5" />
          <text x={x(likely) + 5} y={y + 4} fontSize="12" className="fill-ink">
            {clock(new Date(likely)).slice(0, 5)}
          </text>
        </>
      )}
    </>
  )
}
