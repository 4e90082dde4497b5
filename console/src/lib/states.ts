import type { Job, State } from '../api/client'

/** Words for a station of the way; the state's own word but for dead letters. */
export const stationWord: Record<State, string> = {
  held: 'held',
  scheduled: 'scheduled',
  ready: 'ready',
  running: 'running',
  backoff: 'backoff',
  done: 'done',
  skipped: 'skipped',
  cancelled: 'cancelled',
  dead: 'dead letters',
}

export const ink: Record<State, string> = {
  held: 'text-held',
  scheduled: 'text-scheduled',
  ready: 'text-ready',
  running: 'text-running',
  backoff: 'text-backoff',
  done: 'text-done',
  skipped: 'text-skipped',
  cancelled: 'text-cancelled',
  dead: 'text-dead',
}

/** What an attempt's outcome is drawn and said as. */
export const outcomeState = {
  done: 'done',
  failed: 'backoff',
  give_up: 'dead',
  skipped: 'skipped',
  postponed: 'scheduled',
  released: 'ready',
} as const

export function finished(j: Job): boolean {
  return j.state === 'done' || j.state === 'skipped' || j.state === 'cancelled' || j.state === 'dead'
}
