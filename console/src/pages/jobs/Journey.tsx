import type { Attempt, Job, State } from '../../api/client'
import { clock, moment, span } from '../../lib/format'
import { ink, outcomeState } from '../../lib/states'
import { useWidth } from '../../lib/useWidth'
import { outcomeWord } from '../../lib/words'

interface Stretch {
  kind: 'wait' | 'backoff' | 'run' | 'rest'
  from: number
  to: number
  attempt?: Attempt
}

/** stretches lays a job's life out: waits, attempts, backoffs, and rests between rounds. */
function stretches(j: Job, now: number): Stretch[] {
  const all: Stretch[] = []
  let at = Date.parse(j.enqueued_at)
  let kind: Stretch['kind'] = 'wait'
  let round = 1
  for (const a of j.attempts ?? []) {
    const from = Date.parse(a.started_at)
    const to = a.ended_at ? Date.parse(a.ended_at) : Math.max(now, from)
    all.push({ kind: a.round > round ? 'rest' : kind, from: at, to: from }, { kind: 'run', from, to, attempt: a })
    at = to
    round = a.round
    kind = a.outcome === 'failed' ? 'backoff' : 'wait'
  }
  const due = j.next_at ? Date.parse(j.next_at) : 0
  if (j.state === 'backoff' || j.state === 'scheduled')
    all.push({ kind: j.state === 'backoff' ? 'backoff' : 'wait', from: at, to: Math.max(due, at) })
  else if (j.state === 'ready' || j.state === 'held') all.push({ kind: j.round > round ? 'rest' : 'wait', from: at, to: Math.max(now, at) })
  else if (j.finished_at && all.length === 0) all.push({ kind: 'wait', from: at, to: Date.parse(j.finished_at) })
  return all.filter((s) => s.to > s.from || s.kind === 'run')
}

const length = (s: Stretch) => s.to - s.from
const foldWidth = 76
const tooLong = 25 // times all the rest
const barWidth = 9 // at least, so that a short attempt is seen

/** fold chooses the waits that are too long to be drawn to scale beside the rest. */
function fold(all: Stretch[]): Set<Stretch> {
  const folded = new Set<Stretch>()
  for (;;) {
    const open = all.filter((s) => !folded.has(s))
    const longest = open.filter((s) => s.kind !== 'run').sort((a, b) => length(b) - length(a))[0]
    const total = open.reduce((sum, s) => sum + length(s), 0)
    if (!longest || open.length < 2 || length(longest) < tooLong * (total - length(longest))) return folded
    folded.add(longest)
  }
}

interface Placed extends Stretch {
  x: number
  width: number
  folded: boolean
}

function place(all: Stretch[], width: number): Placed[] {
  const folded = fold(all)
  const open = all.filter((s) => !folded.has(s))
  const total = open.reduce((sum, s) => sum + length(s), 0)
  const room = width - folded.size * foldWidth - open.filter((s) => s.kind === 'run').length * barWidth
  const scale = total > 0 ? Math.max(room, 0) / total : 0
  let x = 0
  return all.map((s) => {
    const w = folded.has(s) ? foldWidth : length(s) * scale + (s.kind === 'run' ? barWidth : 0)
    const placed = { ...s, x, width: w, folded: folded.has(s) }
    x += w
    return placed
  })
}

const axis = 30

/** Journey draws a job's life on one time axis, to scale; waits too long for it are folded. */
export function Journey({ j, now }: { j: Job; now: number }) {
  const [box, width] = useWidth<HTMLElement>()
  const all = stretches(j, now)
  const first = all[0]
  const last = all.at(-1)
  const placed = width > 0 ? place(all, width - 2) : []
  return (
    <section ref={box} aria-label="Its journey" className="mt-6">
      <h3 className="font-semibold">
        Its journey
        <span className="font-normal text-quiet">
          {first && last ? `, ${span(last.to - first.from)}, to scale${placed.some((s) => s.folded) ? ' but for the folds' : ''}` : ''}
        </span>
      </h3>
      {first && last && (
        <>
          <svg width={width} height={56} fill="none" role="img" aria-label={words(all)}>
            {placed.map((s, i) => (
              <Drawn key={i} s={s} />
            ))}
          </svg>
          <p className="flex justify-between text-[13px] text-quiet">
            <time>{moment(new Date(first.from).toISOString())}</time>
            <time>{last.to > now ? 'next ' + moment(new Date(last.to).toISOString()) : clock(new Date(last.to))}</time>
          </p>
        </>
      )}
    </section>
  )
}

/** words tells the drawing to those who do not see it. */
function words(all: Stretch[]): string {
  return all
    .map((s) =>
      s.kind === 'run'
        ? `attempt ${s.attempt!.attempt} ${s.attempt!.outcome ? outcomeWord[s.attempt!.outcome] : 'running'} after ${span(length(s))}`
        : `${s.kind} ${span(length(s))}`,
    )
    .join(', ')
}

function Drawn({ s }: { s: Placed }) {
  if (s.kind === 'run') return <Bar s={s} />
  if (s.folded) return <Fold s={s} />
  return (
    <path
      d={`M${s.x} ${axis}h${s.width}`}
      className={s.kind === 'backoff' ? 'stroke-backoff' : 'stroke-quiet'}
      strokeWidth={s.kind === 'backoff' ? 1.5 : 1}
      strokeDasharray={s.kind === 'backoff' ? '5 4' : s.kind === 'rest' ? '1 4' : undefined}
    >
      <title>{`${s.kind === 'rest' ? 'finished, until it was requeued' : s.kind}: ${span(length(s))}`}</title>
    </path>
  )
}

/** Fold is a long wait drawn short, with its length. */
function Fold({ s }: { s: Placed }) {
  const stroke = s.kind === 'backoff' ? 'stroke-backoff' : 'stroke-quiet'
  const mid = s.x + s.width / 2
  const dash = s.kind === 'backoff' ? '5 4' : s.kind === 'rest' ? '1 4' : undefined
  return (
    <g>
      <path d={`M${s.x} ${axis}H${mid - 6}M${mid + 6} ${axis}H${s.x + s.width}`} className={stroke} strokeDasharray={dash} />
      <path d={`M${mid - 6} ${axis + 6}l5-12M${mid + 1} ${axis + 6}l5-12`} className={stroke} />
      <text x={mid} y={axis - 12} textAnchor="middle" className="fill-quiet text-[13px]">
        {span(length(s))}
      </text>
    </g>
  )
}

function Bar({ s }: { s: Placed }) {
  const a = s.attempt!
  const state: State = a.outcome ? outcomeState[a.outcome] : 'running'
  const lost = a.error?.type === 'lease_lost'
  const width = Math.max(s.width - 2, 3)
  return (
    <g className={ink[state]}>
      <title>{`attempt ${a.attempt}: ${a.outcome ? outcomeWord[a.outcome] : 'running'}, ${span(length(s))}${a.error ? ', ' + a.error.message : ''}`}</title>
      <rect x={s.x + 1} y={axis - 7} width={width} height={14} rx="1" fill="currentColor" fillOpacity={a.outcome ? 1 : 0.45} />
      {lost && <path d={`M${s.x + width - 5} ${axis - 9}l-5 18`} className="stroke-ground" strokeWidth="3" />}
      <text x={s.x + 1 + width / 2} y={axis + 22} textAnchor="middle" className="fill-ink text-[13px]">
        {a.attempt}
      </text>
    </g>
  )
}
