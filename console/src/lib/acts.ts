// Acts on many jobs: what they are called, and what they are for.
import type { Filter, Operation, State } from '../api/client'
import { grouped } from './format'

export type Action = 'requeue' | 'discard' | 'cancel' | 'start_now' | 'patch'

/** Target is what an act on many is for: all that match a filter, or the chosen jobs alone. */
export type Target = { filter: Filter } | { ids: number[] }

export const verbs: Record<Action, string> = {
  requeue: 'Requeue',
  discard: 'Discard',
  cancel: 'Cancel',
  start_now: 'Start now',
  patch: 'Change',
}

/** The states of the jobs that each act can be for, as the service has it. */
export const actsOn: Record<Action, State[]> = {
  cancel: ['held', 'scheduled', 'ready', 'backoff', 'running'],
  requeue: ['dead', 'done', 'skipped', 'cancelled'],
  start_now: ['backoff', 'scheduled'],
  discard: ['dead', 'done', 'skipped', 'cancelled'],
  patch: ['held', 'scheduled', 'ready', 'backoff'],
}

export const commands: Record<Action, string> = {
  requeue: 'requeue',
  discard: 'discard',
  cancel: 'cancel',
  start_now: 'start',
  patch: 'edit',
}

const past: Record<Operation['action'], string> = {
  requeue: 'requeued',
  discard: 'discarded',
  cancel: 'cancelled',
  start_now: 'started',
  patch: 'changed',
  purge: 'removed',
}

/** outcomeOf says what an act on many has done, and where the rest of it is seen. */
export function outcomeOf(o: Operation): { text: string; to: string } {
  const jobs = (n: number) => `${grouped(n)} ${n === 1 ? 'job' : 'jobs'}`
  const over = o.state === 'finished' || o.state === 'stopped'
  const refused = o.refused_count > 0 ? `; ${jobs(o.refused_count)} could not be` : ''
  const text = over
    ? `${jobs(o.changed)} ${past[o.action]}${refused}.`
    : o.state === 'trial'
      ? `${jobs(o.trial_ids?.length ?? 0)} on trial; the rest follows when these are done.`
      : `Under way: ${jobs(o.matched)} are being ${past[o.action]}.`
  return { text, to: '/log' }
}

/** underWay tells whether an operation goes on. */
export const underWay = (o: Operation) => o.state === 'trial' || o.state === 'running' || o.state === 'undoing'
