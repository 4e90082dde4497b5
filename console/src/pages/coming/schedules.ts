// What is said of schedules, and how one is read from a form.
import type { Coming, Schedule, ScheduleStatus } from '../../api/client'
import { span } from '../../lib/format'
import { quoted } from '../../lib/shell'

/** ScheduleForm is a schedule as it is entered. */
export interface Entered {
  name: string
  by: 'cron' | 'every'
  cron: string
  every: string
  zone: string
  task: string
  queue: string
  payload: string
  if_still_running: 'skip' | 'wait' | 'also'
  missed: 'skip' | 'once' | 'all'
  late_limit: string
  spread: string
  note: string
}

export const blank: Entered = {
  name: '',
  by: 'cron',
  cron: '30 3 * * *',
  every: '5m',
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  task: '',
  queue: '',
  payload: '',
  if_still_running: 'skip',
  missed: 'once',
  late_limit: '1m',
  spread: '',
  note: '',
}

/** runOf is the spec of the job that stands for a run: that of its job, or of the last one of its batch. */
export function runOf(s: Schedule): { task: string; queue?: string } {
  return s.batch?.last ?? s.job ?? { task: '' }
}

/** jobsOf is how many jobs a run enqueues. */
export function jobsOf(s: Schedule): number {
  return s.batch ? (s.batch.jobs ?? []).length + 1 : 1
}

/** enteredOf is a schedule as a form shows it. */
export function enteredOf(s: ScheduleStatus): Entered {
  return {
    name: s.name,
    by: s.every ? 'every' : 'cron',
    cron: s.cron ?? blank.cron,
    every: s.every ?? blank.every,
    zone: s.zone ?? 'UTC',
    task: s.job?.task ?? '',
    queue: s.job?.queue ?? '',
    payload: s.job?.payload === undefined ? '' : JSON.stringify(s.job.payload, null, 2),
    if_still_running: s.if_still_running ?? 'skip',
    missed: s.missed ?? 'once',
    late_limit: s.late_limit ?? '1m',
    spread: s.spread ?? '',
    note: s.note ?? '',
  }
}

/** payloadProblem says what keeps a payload from being JSON. */
export function payloadProblem(e: Entered): string | undefined {
  if (e.payload.trim() === '') return undefined
  try {
    JSON.parse(e.payload)
  } catch (x) {
    return (x as Error).message
  }
}

/** fromEntered is the schedule of a form, without the payload; what the form does not show stays as it was. */
export function fromEntered(e: Entered, was?: ScheduleStatus): Schedule {
  const job = { ...was?.job, task: e.task, queue: e.queue || undefined, payload: undefined }
  return {
    cron: e.by === 'cron' ? e.cron : undefined,
    every: e.by === 'every' ? e.every : undefined,
    from: e.by === 'every' && e.every === was?.every ? was.from : undefined,
    zone: e.zone || undefined,
    ...(was?.batch ? { batch: was.batch } : { job }),
    if_still_running: e.if_still_running,
    missed: e.missed,
    late_limit: e.late_limit || undefined,
    spread: e.spread || undefined,
    until: was?.until,
    note: e.note || undefined,
  }
}

/** written is a schedule as JSON with the payload as the text it was entered as, so that its numbers keep their digits. */
export function written(e: Entered, was?: ScheduleStatus): string {
  const s = JSON.stringify(fromEntered(e, was))
  return e.payload.trim() === '' ? s : s.replace('"job":{', (job) => `${job}"payload":${e.payload.trim()},`)
}

/** command keeps the same schedule from a terminal. */
export function command(e: Entered, was?: ScheduleStatus): string {
  return `hmule schedule set ${e.name || 'NAME'} --replace ${quoted(written(e, was).replace(/\n\s*/g, ''))}`
}

/** oftenWords says how often a schedule comes that comes all the time. */
export function oftenWords(o: Coming['often'][number]): string {
  return `${o.schedule} every ${span(o.every_ms)}`
}
