import type { State } from '../../api/client'
import { grouped } from '../../lib/format'
import { ink } from '../../lib/states'
import { states } from '../../lib/words'

/** The order in which states lie in a bar: what has ended first. */
const order: State[] = ['done', 'skipped', 'cancelled', 'dead', 'running', 'backoff', 'ready', 'scheduled', 'held']

/** Share is a bar of jobs by state. */
export function Share({ counts, jobs }: { counts: Record<string, number>; jobs: number }) {
  const words = states.filter((s) => counts[s]).map((s) => `${grouped(counts[s]!)} ${s}`)
  if (jobs === 0) return <span className="text-quiet">no job yet</span>
  return (
    <span
      role="img"
      aria-label={words.join(', ')}
      title={words.join(', ')}
      className="flex h-[8px] w-full overflow-hidden rounded-full bg-hairline"
    >
      {order.map(
        (s) =>
          !!counts[s] &&
          s !== 'held' && (
            <span
              key={s}
              className={`${ink[s]} bg-current ${s === 'ready' || s === 'scheduled' ? 'opacity-40' : ''}`}
              style={{ width: `${(counts[s] / jobs) * 100}%` }}
            />
          ),
      )}
    </span>
  )
}
