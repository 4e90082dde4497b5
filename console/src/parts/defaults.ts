// What jobs get that say nothing themselves, as it is entered and as it is sent.
import type { Defaults, Retry } from '../api/client'

/** Entered is what stands in the fields; an empty one sets nothing. */
export type Entered = Record<Name, string>
export type Name =
  | 'queue'
  | 'priority'
  | 'max_attempts'
  | 'timeout'
  | 'max_running'
  | 'keep_result'
  | 'hide'
  | 'curve'
  | 'first'
  | 'factor'
  | 'step'
  | 'delays'
  | 'ceiling'
  | 'jitter'
  | 'give_up_after'
export type Curve = NonNullable<Retry['curve']>

/** curves are those of a backoff, with what they are and their fields. */
export const curves: Record<Curve, { says: string; fields: Name[] }> = {
  exponential: { says: 'each wait a multiple of the one before', fields: ['first', 'factor', 'ceiling'] },
  linear: { says: 'each wait longer by the same', fields: ['first', 'step', 'ceiling'] },
  fixed: { says: 'each wait the same', fields: ['first'] },
  list: { says: 'each wait as listed, the last one again and again', fields: ['delays'] },
}

/** builtIn is what holds where a field is empty. */
export const builtIn: Record<Name, string> = {
  queue: 'common',
  priority: '4',
  max_attempts: '17',
  timeout: 'none',
  max_running: 'no limit',
  keep_result: 'as long as the job',
  hide: 'nothing',
  curve: 'exponential',
  first: '10s',
  factor: '2.5',
  step: '30s',
  delays: '10s, 1m, 10m',
  ceiling: '8h',
  jitter: '0.2',
  give_up_after: 'never',
}

/** firstOf is the first wait that is built in, where it is another than 10s. */
export const firstOf: Partial<Record<Curve, string>> = { linear: '30s', fixed: '1m' }

/** entered writes defaults as they stand in the fields. */
export function entered(d: Defaults = {}): Entered {
  const r = d.retry
  return {
    queue: d.queue ?? '',
    priority: d.priority?.toString() ?? '',
    max_attempts: d.max_attempts?.toString() ?? '',
    timeout: d.timeout ?? '',
    max_running: d.max_running?.toString() ?? '',
    keep_result: d.keep_result ?? '',
    hide: d.hide?.join(', ') ?? '',
    curve: r ? (r.curve ?? 'exponential') : '',
    first: r?.first ?? '',
    factor: r?.factor?.toString() ?? '',
    step: r?.step ?? '',
    delays: r?.delays?.join(', ') ?? '',
    ceiling: r?.ceiling ?? '',
    jitter: r?.jitter?.toString() ?? '',
    give_up_after: r?.give_up_after ?? '',
  }
}

/** read makes defaults of what stands in the fields, and says what is wrong with a number. What has no field stays as it was. The service judges the rest. */
export function read(e: Entered, was: Defaults = {}): { defaults: Defaults; wrong: Partial<Record<Name, string>> } {
  const wrong: Partial<Record<Name, string>> = {}
  const number = (name: Name, low: number, high: number, whole: boolean) => {
    if (e[name].trim() === '') return undefined
    const n = Number(e[name])
    if (!(n >= low && n <= high) || (whole && !Number.isInteger(n))) wrong[name] = `a ${whole ? 'whole ' : ''}number from ${low} to ${high}`
    return n
  }
  const text = (name: Name) => e[name].trim() || undefined
  const has = (name: Name) => e.curve !== '' && curves[e.curve as Curve].fields.includes(name)
  const retry: Retry | undefined = e.curve
    ? {
        curve: e.curve as Curve,
        first: has('first') ? text('first') : undefined,
        factor: has('factor') ? number('factor', 1, 100, false) : undefined,
        step: has('step') ? text('step') : undefined,
        delays: has('delays') ? (text('delays') ?? builtIn.delays).split(/[\s,]+/).filter(Boolean) : undefined,
        ceiling: has('ceiling') ? text('ceiling') : undefined,
        jitter: number('jitter', 0, 1, false),
        give_up_after: text('give_up_after'),
      }
    : undefined
  return {
    defaults: {
      ...was,
      queue: text('queue'),
      priority: number('priority', 0, 9, true),
      max_attempts: number('max_attempts', 0, 1_000_000, true),
      retry,
      timeout: text('timeout'),
      max_running: number('max_running', 1, 100_000, true),
      keep_result: text('keep_result'),
      hide: text('hide')
        ?.split(/[\s,]+/)
        .filter(Boolean),
    },
    wrong,
  }
}
