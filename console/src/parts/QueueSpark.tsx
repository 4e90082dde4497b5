import type { History, Queue } from '../api/client'
import { Spark } from './Spark'

/** QueueSpark draws how many jobs of a queue came and finished over the last hour. */
export function QueueSpark({ q, history }: { q: Queue; history?: History }) {
  const p = history?.series.find((s) => s.name === q.name)?.points
  const sum = (...parts: (number | null)[][]) =>
    parts[0]!.map((n, i) => (n === null ? null : parts.reduce((all, part) => all + (part[i] ?? 0), 0)))
  // The minute under way is not over yet.
  return (
    <Spark
      times={
        history && p && [Date.parse(history.from) / 1000, Date.parse(history.from) / 1000 + ((p.done.length - 2) * history.step_ms) / 1000]
      }
      label={`Jobs that came and finished in queue ${q.name} over the last hour`}
      lines={
        p
          ? [
              { values: sum(p.done, p.dead, p.skipped, p.cancelled).slice(0, -1), ink: 'stroke-done' },
              { values: sum(p.enqueued, p.requeued).slice(0, -1), ink: 'stroke-ink' },
            ]
          : []
      }
    />
  )
}
