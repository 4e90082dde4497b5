// The order and the limits of a queue, as they are entered and as they are sent.
import type { Defaults, Queue } from '../../api/client'
import { grouped } from '../../lib/format'

/** EnteredRules is what stands in the fields; an empty one sets nothing. */
export type EnteredRules = Record<RuleName, string>
export type RuleName =
  'order' | 'boost' | 'turns' | 'weights' | 'lane_on_backoff' | 'lane_on_dead' | 'max_running' | 'max_waiting' | 'per_second' | 'burst'

export function enteredRules(d: Defaults = {}): EnteredRules {
  return {
    order: d.order ?? 'priority',
    boost: d.boost ?? '',
    turns: d.turns ?? '',
    weights: Object.entries(d.owner_weights ?? {})
      .map(([owner, weight]) => `${owner} = ${weight}`)
      .join('\n'),
    lane_on_backoff: d.lane_on_backoff ?? 'wait',
    lane_on_dead: d.lane_on_dead ?? 'pass',
    max_running: d.max_running?.toString() ?? '',
    max_waiting: d.max_waiting?.toString() ?? '',
    per_second: d.rate?.per_second.toString() ?? '',
    burst: d.rate?.burst?.toString() ?? '',
  }
}

type Wrong = Partial<Record<RuleName, string>>

/** readRules makes settings of what stands in the fields, and says what is wrong with a number. The service judges the rest. */
export function readRules(e: EnteredRules): { rules: Defaults; wrong: Wrong } {
  const wrong: Wrong = {}
  const number = (name: RuleName, whole: boolean, most = 100_000) => {
    if (e[name].trim() === '') return undefined
    const n = Number(e[name])
    if (!(n > 0 && n <= most) || (whole && !Number.isInteger(n)))
      wrong[name] = `a ${whole ? 'whole ' : ''}number above 0, to ${grouped(most)}`
    return n
  }
  const perSecond = number('per_second', false)
  const burst = number('burst', true)
  if (burst !== undefined && perSecond === undefined) wrong.burst = 'needs a rate beside it'
  const rules: Defaults = {
    order: e.order === 'ageing' ? 'ageing' : undefined,
    boost: e.order === 'ageing' ? e.boost.trim() || undefined : undefined,
    turns: e.order !== 'ageing' && e.turns === 'owner' ? 'owner' : undefined,
    lane_on_backoff: e.lane_on_backoff === 'pass' ? 'pass' : undefined,
    lane_on_dead: e.lane_on_dead === 'stop' ? 'stop' : undefined,
    max_running: number('max_running', true),
    max_waiting: number('max_waiting', true, 1_000_000_000),
    rate: perSecond === undefined ? undefined : { per_second: perSecond, burst },
  }
  if (rules.turns) rules.owner_weights = weights(e.weights, wrong)
  return { rules, wrong }
}

function weights(text: string, wrong: Wrong): Record<string, number> | undefined {
  const all: Record<string, number> = {}
  for (const line of text.split('\n').filter((l) => l.trim())) {
    const at = line.lastIndexOf('=')
    const weight = Number(line.slice(at + 1))
    if (at < 0 || !(weight >= 1 && weight <= 1000) || !Number.isInteger(weight))
      wrong.weights = `“${line.trim()}” is not an owner with a weight, such as Marsh Agency = 3`
    all[line.slice(0, Math.max(at, 0)).trim()] = weight
  }
  return Object.keys(all).length > 0 ? all : undefined
}

/** follows says what a change of the rules does at once. */
export function follows(before: Queue, d: Defaults): string {
  const parts: string[] = []
  const waiting = before.counts.ready + before.counts.held
  const order = d.order ?? 'priority'
  if (order !== before.order || (d.turns ?? '') !== (before.turns ?? '') || (order === 'ageing' && (d.boost ?? '1m') !== before.boost)) {
    parts.push(
      `${waiting} waiting ${waiting === 1 ? 'job gets its place' : 'jobs get their places'} by the new order, while the queue goes on.`,
    )
  }
  if (d.max_running !== undefined && before.running > d.max_running)
    parts.push(`${before.running} jobs run now; no new one starts until fewer than ${d.max_running} do.`)
  if (d.rate)
    parts.push(
      `At most ${d.rate.per_second} ${d.rate.per_second === 1 ? 'job starts' : 'jobs start'} a second, ${d.rate.burst ?? 1} at once after a quiet time.`,
    )
  parts.push(
    'Order and limits hold at once; defaults hold for jobs that are enqueued or requeued from now on. It can be changed again at any time, and is on record.',
  )
  return parts.join(' ')
}
