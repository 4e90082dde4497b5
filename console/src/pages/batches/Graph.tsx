import { Link } from 'react-router'

import type { BatchGraph, BatchNode, State } from '../../api/client'
import { search } from '../../lib/address'
import { grouped } from '../../lib/format'
import { states } from '../../lib/words'
import { Mark } from '../../parts/Mark'

const box = { width: 148, height: 44, gapX: 14, gapY: 30 }

/** most is how many levels are drawn; more are named. */
const most = 60

/** Graph draws a batch from top to bottom: a row for each level, a box for the jobs of a task in it, and lines from what is waited for to what waits. The path that takes longest is stronger. */
export function Graph({ of, batch }: { of: BatchGraph; batch: number }) {
  const rows = rowsOf(of.nodes)
  const drawn = rows.slice(0, most)
  const at = new Map<number, { x: number; y: number }>()
  drawn.forEach((row, r) => row.forEach((n, c) => at.set(n, { x: c * (box.width + box.gapX), y: r * (box.height + box.gapY) })))
  const width = Math.max(...drawn.map((r) => r.length)) * (box.width + box.gapX) - box.gapX
  const height = drawn.length * (box.height + box.gapY) - box.gapY
  const last = of.nodes.findIndex((n) => n.last)
  const before = new Set(of.links.map((l) => l.from))
  const links = [
    ...of.links,
    // The last job waits for all others: it is enough to draw those that nothing else waits for.
    ...(last < 0
      ? []
      : of.nodes.flatMap((n, i) => (i !== last && !before.has(i) ? [{ from: i, to: last, jobs: n.jobs, longest: !!n.longest }] : []))),
  ].filter((l) => at.has(l.from) && at.has(l.to))
  return (
    <section aria-label="What waits for what" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        What waits for what
        <span className="font-normal text-quiet">
          , from top to bottom in {grouped(of.levels)} {of.levels === 1 ? 'level' : 'levels'}
          {links.some((l) => l.longest) && '; the longest path is stronger'}
        </span>
      </h3>
      <div className="overflow-x-auto py-3" tabIndex={0} role="group" aria-label="The jobs in levels">
        <div className="relative" style={{ width, height }}>
          <svg width={width} height={height} className="absolute inset-0" fill="none" aria-hidden>
            {links.map((l) => {
              const [a, b] = [at.get(l.from)!, at.get(l.to)!]
              const [x1, y1, x2, y2] = [a.x + box.width / 2, a.y + box.height, b.x + box.width / 2, b.y]
              const bend = Math.max(box.gapY / 2, (y2 - y1) / 2)
              return (
                <path
                  key={`${l.from}-${l.to}`}
                  d={`M${x1} ${y1}C${x1} ${y1 + bend} ${x2} ${y2 - bend} ${x2} ${y2}`}
                  className={l.longest ? 'stroke-ink' : 'stroke-quiet'}
                  strokeWidth={l.longest ? 2 : 1}
                  opacity={l.longest ? 1 : 0.5}
                />
              )
            })}
          </svg>
          {of.nodes.map((n, i) => at.has(i) && <Box key={i} n={n} batch={batch} at={at.get(i)!} />)}
        </div>
      </div>
      {rows.length > most && (
        <p className="text-quiet">
          The first {most} levels; {grouped(rows.length - most)} more follow.
        </p>
      )}
      {of.more && <p className="text-quiet">The jobs that were added first; the batch has more.</p>}
    </section>
  )
}

/** rowsOf gives the nodes by level, as places among them; levels that a node reaches over are one row. */
function rowsOf(nodes: BatchNode[]): number[][] {
  const rows: number[][] = []
  let level = 0
  nodes.forEach((n, i) => {
    if (n.level !== level || rows.length === 0) rows.push([])
    level = n.level
    rows.at(-1)!.push(i)
  })
  return rows
}

/** The states that make the reader look, the gravest first. */
const gravest: State[] = ['dead', 'backoff', 'running', 'cancelled', 'ready', 'scheduled', 'held', 'skipped', 'done']

/** Box is the jobs of a task in a level. */
function Box({ n, batch, at }: { n: BatchNode; batch: number; at: { x: number; y: number } }) {
  const one = n.jobs === 1 ? n.first[0] : undefined
  const state = gravest.find((s) => n.counts[s])!
  const parts = states.filter((s) => n.counts[s]).map((s) => `${grouped(n.counts[s]!)} ${s}`)
  const name = one ? (one.ref ? `${n.task} ${one.ref}` : n.task) : n.task
  return (
    <Link
      to={one ? `/jobs/${one.job}` : '/jobs' + search({ batch: String(batch), task: n.task })}
      className={`absolute flex flex-col justify-center rounded border bg-ground px-2.5 hover:bg-raised ${n.longest ? 'border-ink' : 'border-hairline'}`}
      style={{ left: at.x, top: at.y, width: box.width, height: box.height }}
      title={`${name}: ${parts.join(', ')}`}
    >
      <span className="truncate text-[13px] leading-tight font-semibold">{n.task}</span>
      <span className="flex items-center gap-1.5 truncate text-[13px] leading-tight text-quiet">
        <Mark state={state} size={10} />
        <span className="truncate">{says(n)}</span>
      </span>
    </Link>
  )
}

/** says tells how the jobs of a box stand. */
function says(n: BatchNode): string {
  const one = n.jobs === 1 ? n.first[0] : undefined
  if (n.last) return `${one?.state}, the last job`
  if (one) return [one.state, one.ref].filter(Boolean).join(', ')
  const ended = (['done', 'skipped', 'cancelled', 'dead'] as const).reduce((sum, s) => sum + (n.counts[s] ?? 0), 0)
  const row = n.depth > 1 ? ', in a row' : ''
  return n.counts.dead
    ? `${grouped(n.counts.dead)} of ${grouped(n.jobs)} dead${row}`
    : row
      ? `${grouped(ended)} of ${grouped(n.jobs)}${row}`
      : `${grouped(ended)} of ${grouped(n.jobs)} ended`
}
