// The words of states and outcomes. Written by go generate ./internal/server from the tables of job.
import type { State } from '../api/client'

/** States in the order of a job's life, with what a job does in each. */
export const means: Record<State, string> = {
  held: 'Waits for its lane, for other jobs, or for an earlier run of its schedule',
  scheduled: 'Waits for its time',
  ready: 'May be taken by a worker',
  running: 'Is being run by a worker, under a lease',
  backoff: 'Failed, and waits for its next attempt',
  done: 'Was finished by its handler',
  skipped: 'Was no longer needed',
  cancelled: 'Was ended before it was done',
  dead: 'Will not be retried by itself: a dead letter',
}
export const states = Object.keys(means) as State[]

/** How an attempt ended, by its outcome. */
export const outcomeWord = {
  done: 'done',
  failed: 'failed',
  give_up: 'gave up',
  skipped: 'skipped',
  postponed: 'postponed',
  released: 'given back',
} as const
