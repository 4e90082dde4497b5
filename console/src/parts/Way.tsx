import { Link } from 'react-router'

import { path } from '../lib/address'
import type { State, Stats } from '../api/client'
import { grouped } from '../lib/format'
import { Mark } from './Mark'
import { stationWord } from '../lib/states'
import { useWidth } from '../lib/useWidth'
import { means, states } from '../lib/words'

type Props = { stats?: Stats }

/** Way draws a job's way from left to right, with every station's count and the rates between. */
export function Way({ stats }: Props) {
  const [box, width] = useWidth<HTMLDivElement>()
  const wide = width >= 860
  return (
    <nav
      aria-label="The way of jobs: each station leads to its jobs"
      ref={box}
      className="relative"
      style={{ minHeight: wide || width === 0 ? height : undefined }}
    >
      {wide ? <Drawing stats={stats} width={width} /> : <Row stats={stats} />}
    </nav>
  )
}

function rate(stats: Stats | undefined, from: string, to: State): number {
  const n = stats?.moves.find((m) => m.from === from && m.to === to)?.count ?? 0
  return (n * 60000) / (stats?.window_ms ?? 60000)
}

/** arrivals are the new and the requeued jobs that come to a state, as a queue's "in" counts them. */
function arrivals(stats: Stats | undefined, to: State): number {
  return ['new', 'done', 'skipped', 'cancelled', 'dead'].reduce((sum, from) => sum + rate(stats, from, to), 0)
}

/** into adds up what arrives at a state, from wherever. */
function into(stats: Stats | undefined, to: State, except: string[] = []): number {
  const moves = stats?.moves.filter((m) => m.to === to && !except.includes(m.from)) ?? []
  return moves.reduce((sum, m) => sum + m.count, 0) * (60000 / (stats?.window_ms ?? 60000))
}

/** span says over what time the rates are. */
function span(stats?: Stats): string {
  const seconds = Math.round((stats?.window_ms ?? 60000) / 1000)
  return seconds < 59 ? `over the ${seconds} s since the start` : 'over the last minute'
}

function perMinute(n: number): string {
  return n >= 10 || n === 0 ? grouped(Math.round(n)) : String(Math.round(n * 10) / 10)
}

function Station({ state, stats, className = '' }: { state: State; stats?: Stats; className?: string }) {
  const count = stats?.counts[state]
  return (
    <Link
      to={state === 'dead' ? '/dead' : path({ state })}
      title={means[state]}
      className={`group inline-flex items-baseline gap-1.5 rounded-sm whitespace-nowrap ${className}`}
    >
      <span className="self-center">
        <Mark state={state} size={14} />
      </span>
      <span className={`text-lg leading-none font-semibold ${count ? '' : 'text-quiet'}`}>
        {count === undefined ? '–' : grouped(count)}
      </span>
      <span className="text-quiet underline-offset-4 group-hover:underline">{stationWord[state]}</span>
    </Link>
  )
}

/** Row is the way on little room: the stations alone. */
function Row({ stats }: { stats?: Stats }) {
  return (
    <div className="flex flex-wrap gap-x-6 gap-y-2 py-2">
      {states.map((s) => (
        <Station key={s} state={s} stats={stats} />
      ))}
    </div>
  )
}

const height = 148
const line = 54 // where the main line runs
const endings: { state: State; y: number }[] = [
  { state: 'dead', y: line - 32 },
  { state: 'done', y: line },
  { state: 'skipped', y: line + 32 },
  { state: 'cancelled', y: line + 60 },
]

/** thickness of a line by its rate a minute, logarithmic. */
function thickness(n: number): number {
  return n > 0 ? 1.5 + 1.6 * Math.log10(1 + n) : 1
}

/** Drawing is the way with its lines. Stations stand on the main line; what goes wrong leaves it downwards. */
function Drawing({ stats, width }: { stats?: Stats; width: number }) {
  // How much longer a station is for every digit that its count has beyond the first.
  const more = (s: State) => (grouped(stats?.counts[s] ?? 0).length - 1) * 11
  const end = width - 132 - Math.max(...endings.map((e) => more(e.state)))
  const at: Partial<Record<State, number>> = { held: 0, scheduled: end * 0.185, ready: end * 0.43, running: end * 0.655 }
  const size: Partial<Record<State, number>> = { held: 66, scheduled: 106, ready: 78, running: 92 }
  const from = (s: State) => at[s]! + size[s]! + more(s)
  const low = line + 46 // where the loop back runs
  const loop = (at.ready! + at.running!) / 2 - 44 // where backoff stands on it
  const cancelled = into(stats, 'cancelled')
  const outs: Record<string, number> = {
    done: rate(stats, 'running', 'done'),
    dead: into(stats, 'dead'),
    skipped: into(stats, 'skipped'),
    cancelled,
  }
  const fork = from('running') + 18
  return (
    <>
      <svg width={width} height={height} className="absolute inset-0" fill="none" aria-hidden>
        <Arrivals x={at.held! + 8} n={arrivals(stats, 'held')} />
        <Arrivals x={at.scheduled! + 8} n={arrivals(stats, 'scheduled')} />
        <Arrivals x={at.ready! + 8} n={arrivals(stats, 'ready')} word />
        <Path
          d={`M${from('held')} ${line}H${at.scheduled! - 8}`}
          n={rate(stats, 'held', 'scheduled')}
          x={(from('held') + at.scheduled!) / 2}
          y={line}
          plain
        />
        <Path
          d={`M${from('scheduled')} ${line}H${at.ready! - 8}`}
          n={rate(stats, 'scheduled', 'ready')}
          x={(from('scheduled') + at.ready!) / 2}
          y={line}
        />
        <Path
          d={`M${from('ready')} ${line}H${at.running! - 8}`}
          n={rate(stats, 'ready', 'running')}
          x={(from('ready') + at.running!) / 2}
          y={line}
        />
        <Path
          d={`M${at.running! + 40} ${line + 14}C${at.running! + 40} ${low} ${at.running! + 20} ${low} ${at.running! - 4} ${low}H${Math.min(loop + 96 + more('backoff'), at.running! - 4)}`}
          n={rate(stats, 'running', 'backoff')}
          x={at.running! + 52}
          y={low + 4}
        />
        <Path
          d={`M${loop - 8} ${low}H${at.ready! + 60}C${at.ready! + 30} ${low} ${at.ready! + 24} ${low - 10} ${at.ready! + 24} ${line + 16}`}
          n={rate(stats, 'backoff', 'ready')}
          x={at.ready! + 36}
          y={low + 20}
        />
        {endings.map(({ state, y }) => (
          <Path
            key={state}
            d={
              y === line
                ? `M${from('running')} ${line}H${end - 8}`
                : `M${fork} ${line}C${fork + 34} ${line} ${fork + 10} ${y} ${fork + 52} ${y}H${end - 8}`
            }
            n={outs[state]!}
            x={(fork + 52 + end) / 2}
            y={y}
          />
        ))}
      </svg>
      {(['held', 'scheduled', 'ready', 'running'] as State[]).map((s) => (
        <At key={s} x={at[s]!} y={line}>
          <Station state={s} stats={stats} />
        </At>
      ))}
      <At x={loop} y={low}>
        <Station state="backoff" stats={stats} />
      </At>
      {endings.map(({ state, y }) => (
        <At key={state} x={end} y={y}>
          <Station state={state} stats={stats} />
        </At>
      ))}
      <p className="absolute bottom-0 left-0 text-[13px] text-quiet">On the lines: jobs per minute, {span(stats)}.</p>
    </>
  )
}

function At({ x, y, children }: { x: number; y: number; children: React.ReactNode }) {
  return (
    <div className="absolute -translate-y-1/2" style={{ left: x, top: y }}>
      {children}
    </div>
  )
}

/** Path is a line of the way with its rate above it. */
function Path({ d, n, x, y, plain }: { d: string; n: number; x: number; y: number; plain?: boolean }) {
  return (
    <>
      <path d={d} className={n > 0 ? 'stroke-quiet' : 'stroke-hairline'} strokeWidth={thickness(n)} strokeLinecap="round" />
      {(n > 0 || !plain) && (
        <text x={x} y={y - 8} textAnchor="middle" className={`text-[13px] ${n > 0 ? 'fill-ink' : 'fill-quiet'}`}>
          {perMinute(n)}
        </text>
      )}
    </>
  )
}

/** Arrivals is the short line by which new and requeued jobs come to a station. */
function Arrivals({ x, n, word }: { x: number; n: number; word?: boolean }) {
  if (n === 0 && !word) return null
  return (
    <>
      <path
        d={`M${x} 22V${line - 16}`}
        className={n > 0 ? 'stroke-quiet' : 'stroke-hairline'}
        strokeWidth={thickness(n)}
        strokeLinecap="round"
      />
      <text x={x + 10} y={30} className={`text-[13px] ${n > 0 ? 'fill-ink' : 'fill-quiet'}`}>
        {perMinute(n)}
        <tspan className="fill-quiet"> in{word ? ' a minute' : ''}</tspan>
      </text>
    </>
  )
}
