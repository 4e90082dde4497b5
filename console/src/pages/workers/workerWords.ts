// What is said of workers and their slots.
import type { Slot, Worker } from '../../api/client'

/** beyond tells whether a slot's job runs for longer than 19 of 20 runs of its task. */
export function beyond(s: Slot, now: number): boolean {
  return !!s.usual_ms && now - Date.parse(s.since) > Math.max(s.long_ms ?? 0, s.usual_ms)
}

/** resting tells whether a worker takes no more jobs. */
export function resting(w: Worker): boolean {
  return !!w.draining || w.wanted === 'drain' || w.wanted === 'leave'
}

export function nameOf(w: Worker): string {
  return w.name ?? w.id
}

/** queuesOf names the queues of a worker, with their weights where they have any. */
export function queuesOf(w: Worker): string {
  return w.queues.map((q) => (w.weights ? `${q} ×${w.weights[q] ?? 1}` : q)).join(', ')
}
