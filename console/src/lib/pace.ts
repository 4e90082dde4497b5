import type { Queue } from '../api/client'
import { grouped } from './format'

/** binds says what keeps a queue from going faster; nothing while it could. */
export function binds(q: Queue): string {
  switch (q.pace.binds) {
    case 'pause':
      return `paused by ${q.paused_by}`
    case 'no_worker':
      return q.counts.ready > 0 ? 'no worker serves it' : 'no worker'
    case 'max_running':
      return `at most ${grouped(q.max_running ?? 0)} running`
    case 'rate':
      return `its rate of ${q.rate?.per_second} ${q.rate?.per_second === 1 ? 'start' : 'starts'} per second`
    case 'lane':
      return 'its lanes'
    case 'slots':
      return q.pace.slots === 1 ? '1 slot' : `${grouped(q.pace.slots)} slots`
    default:
      return ''
  }
}

/** rate writes a number of jobs a minute. */
export function rate(n: number): string {
  return n >= 10 || n === 0 ? grouped(Math.round(n)) : n.toFixed(1)
}

/** startWords tells in what order the jobs of a queue start. */
export function startWords(q: Queue): string {
  return [q.summary, q.new_places && 'places are given anew'].filter(Boolean).join(', ')
}
