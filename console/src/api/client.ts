// The API, typed by its description, and the queries the page is made of.
import { base } from '../lib/base'
import type { Interval } from '../lib/interval'
import { QueryClient, keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import createClient from 'openapi-fetch'

import { csrf, newKey, reader, refuse } from './access'
import { keys } from './keys'
import type { components, paths } from './schema'

export type Job = components['schemas']['Job']
export type Attempt = components['schemas']['Attempt']
export type State = components['schemas']['State']
export type Stats = components['schemas']['Stats']
export type Fact = components['schemas']['Fact']
export type History = components['schemas']['History']
export type Forecast = components['schemas']['Forecast']
export type Pace = components['schemas']['Pace']
export type Series = components['schemas']['Series']
export type Counts = components['schemas']['Counts']
export type Worker = components['schemas']['Worker']
export type Slot = components['schemas']['Slot']
export type Batch = components['schemas']['Batch']
export type BatchGraph = components['schemas']['BatchGraph']
export type BatchNode = components['schemas']['BatchNode']
export type Edges = components['schemas']['Edges']
export type HookStatus = components['schemas']['HookStatus']
export type EndpointStatus = components['schemas']['EndpointStatus']
export type Alert = components['schemas']['Alert']
export type AlertSetup = components['schemas']['AlertSetup']
export type Queue = components['schemas']['Queue']
export type Cause = components['schemas']['Cause']
export type Schedule = components['schemas']['Schedule']
export type ScheduleStatus = components['schemas']['ScheduleStatus']
export type Run = components['schemas']['Run']
export type Instant = components['schemas']['Instant']
export type Coming = components['schemas']['Coming']
export type Lane = components['schemas']['Lane']
export type Start = components['schemas']['Start']
export type Task = components['schemas']['Task']
export type Defaults = components['schemas']['Defaults']
export type Retry = components['schemas']['Retry']
export type Preview = components['schemas']['RetryExplanation']
export type Edit = components['schemas']['Edit']
export type Operation = components['schemas']['Operation']
export type LogLine = components['schemas']['Log']['lines'][number]
type Problem = components['schemas']['Problem']

/** A call that has had no answer for so long is given up; none of the page's waits. */
const answeredWithin = 15_000

export const api = createClient<paths, 'application/json' | 'application/problem+json'>({
  baseUrl: base || '/',
  querySerializer: (query) => {
    const q = new URLSearchParams()
    for (const [name, value] of Object.entries(query as Record<string, string | number | boolean | string[] | undefined>)) {
      if (value === undefined) continue
      if (name === 'label') [value].flat().forEach((label) => q.append(name, String(label)))
      else q.set(name, Array.isArray(value) ? value.join(',') : String(value))
    }
    return q.toString()
  },
  fetch: (request) => fetch(request, { signal: AbortSignal.any([request.signal, AbortSignal.timeout(answeredWithin)]) }),
})

/** actedAt is when the page changed something last: what it reads then has to show it. */
let actedAt = 0
const showsAfter = 3000

/** lastHeard is the id of the event that was heard last: what is read has to know of it. */
let lastHeard = ''
export const heard = (id: string) => {
  lastHeard = id
}

api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') {
      actedAt = Date.now()
      for (const [name, value] of Object.entries(csrf())) request.headers.set(name, value)
    }
    // An answer that another page has had within a second will do.
    else if (Date.now() - actedAt > showsAfter) {
      request.headers.set('Cache-Control', 'max-age=1')
      if (lastHeard) request.headers.set('Last-Event-ID', lastHeard)
    }
    return request
  },
  onResponse({ response }) {
    if (response.status === 401) refuse()
    return response
  },
})

export const queryClient = new QueryClient({
  defaultOptions: { queries: { retry: false, staleTime: Infinity, placeholderData: keepPreviousData, networkMode: 'always' } },
})

/** Refusal is the service's own word on why a call did not take effect. */
export class Refusal extends Error {
  readonly status: number
  constructor(p: Problem) {
    super([p.detail, ...(p.errors ?? []).map((e) => `${e.field} ${e.message}`)].join(': '))
    this.status = p.status
  }
}

/** told gives a call's answer, or throws what the service has against it. */
export async function told<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  const { data, error } = await call
  if (data !== undefined) return data
  if (error && typeof error === 'object' && 'detail' in error) throw new Refusal(error as Problem)
  throw new Error('the service gave no answer that can be read')
}

/** The most that the service puts on a page of a list. */
const largestPage = 500

const part = (cursor?: string) => ({ params: { query: { limit: largestPage, cursor } } })

/** everyPage reads a list whole, page after page. */
async function everyPage<P extends { next_cursor?: string | undefined }, T>(
  page: (cursor?: string) => Promise<P>,
  items: (p: P) => T[],
): Promise<T[]> {
  const all: T[] = []
  for (let cursor: string | undefined; ;) {
    const p = await page(cursor)
    all.push(...items(p))
    if (!p.next_cursor) return all
    cursor = p.next_cursor
  }
}

/** listed splits words that stand in the address. */
const listed = (words?: string) =>
  words
    ?.split(',')
    .map((w) => w.trim())
    .filter((w) => w !== '')

/** Filter is what the list is narrowed to; it stands in the address. Several states, queues, tasks and ids are divided by commas, several labels by line breaks. */
export interface Filter {
  state?: string
  queue?: string
  task?: string
  owner?: string
  key?: string
  /** worker is the id or the name of one that runs the jobs, or ran them last. */
  worker?: string
  /** batch is the id of a batch. */
  batch?: string
  label?: string
  cause?: string
  error?: string
  steps?: string
  ids?: string
  since?: string
  until?: string
  order?: string
  /** from is with which job a list begins: its id, or a time. */
  from?: string
}

export const filterNames = [
  'state',
  'queue',
  'task',
  'owner',
  'key',
  'worker',
  'batch',
  'label',
  'cause',
  'error',
  'steps',
  'ids',
  'since',
  'until',
  'order',
  'from',
] as const

/** narrows tells whether a filter leaves any job out. */
export const narrows = (f: Filter) => filterNames.some((n) => n !== 'order' && n !== 'from' && f[n])

/** queryOf is a filter as a list asks for it. */
export function queryOf(f: Filter) {
  return {
    state: listed(f.state) as State[] | undefined,
    queue: listed(f.queue),
    task: listed(f.task),
    owner: f.owner,
    key: f.key,
    worker: f.worker,
    batch: f.batch ? Number(f.batch) : undefined,
    label: labelsOf(f),
    cause: f.cause ? Number(f.cause) : undefined,
    error: f.error,
    steps: f.steps as 'in_doubt' | undefined,
    ids: listed(f.ids)?.map(Number),
    since: f.since,
    until: f.until,
  }
}

/** labelsOf are the labels that a filter asks for, each as name:value. */
export function labelsOf(f: Filter): string[] | undefined {
  return f.label?.split('\n')
}

/** pairOf reads name:value, or name=value, which stands for a label, as the service reads it. */
export function pairOf(label: string): [string, string] {
  const at = /[:=]/.exec(label)?.index ?? label.length
  const name = label.slice(0, at)
  try {
    return [decodeURIComponent(name), label.slice(at + 1)]
  } catch {
    return [name, label.slice(at + 1)]
  }
}

/** pairText writes a label so that pairOf reads it. */
export function pairText(name: string, value: string): string {
  return `${name.replace(/[%:=]/g, encodeURIComponent)}:${value}`
}

export type Selection = components['schemas']['Selection']

/** selectionOf is a filter as acts on many jobs take it; undefined where they cannot, or where it says nothing clear. */
export function selectionOf(f: Filter): Selection | undefined {
  if (f.steps || f.ids) return undefined
  const labels = labelsOf(f)?.map(pairOf)
  const unclear = labels && new Set(labels.map(([name]) => name)).size < labels.length
  if (unclear || Number.isNaN(Number(f.batch ?? 0)) || Number.isNaN(Number(f.cause ?? 0))) return undefined
  const { state, queue, task, owner, key, worker, batch, cause, error, since, until } = queryOf(f)
  return {
    state,
    queue,
    task,
    owner,
    key,
    worker,
    batch,
    labels: labels && Object.fromEntries(labels),
    cause,
    error,
    since,
    until,
  }
}

export function useStats(queue?: string) {
  return useQuery({
    queryKey: keys.stats.of(queue),
    queryFn: () => told(api.GET('/v1/stats', { params: { query: { queue } } })),
    refetchInterval: 5000,
  })
}

/** Span is how far back a chart reaches. */
export type Span = 'hour' | 'day' | 'month'

/** How long each span is in seconds, and the step in which it is told. */
export const spans: Record<Span, { seconds: number; step: string; words: string }> = {
  hour: { seconds: 3600, step: '1m', words: 'the last hour' },
  day: { seconds: 86_400, step: '15m', words: 'the last day' },
  month: { seconds: 30 * 86_400, step: '6h', words: 'the last 30 days' },
}

/** useHistory tells what moved within a span that reaches to now, or within an interval, by queue or by followed label. */
export function useHistory(span: Span | Interval, by: 'queue' | 'follow' = 'queue') {
  const past = typeof span !== 'string'
  return useQuery({
    queryKey: keys.history(past ? span.join('/') : span, by),
    queryFn: () => {
      const query = past
        ? { from: span[0], to: span[1] }
        : { from: new Date(Date.now() - spans[span].seconds * 1000).toISOString(), step: spans[span].step }
      return told(api.GET('/v1/stats/history', { params: { query: { ...query, by } } }))
    },
    refetchInterval: past ? false : span === 'hour' ? 5000 : 30_000,
  })
}

/** Subject is what figures are of: everything, a queue, a task, or a followed label, as in queue:berths. */
export type Subject = string

/** Minutes are kept so long; older figures are told by the hour. */
const minutesKept = 47 * 3_600_000

/** useSpanOf tells what moved of something within a span of time, with how long things took. */
export function useSpanOf(of: Subject, from: string, to: string) {
  const [kind, name] = [of.slice(0, of.indexOf(':')), of.slice(of.indexOf(':') + 1)]
  return useQuery({
    queryKey: keys.spanOf(of, from, to),
    queryFn: async () => {
      const step = Date.now() - Date.parse(from) < minutesKept ? '1m' : '1h'
      const query = { from, to, step, times: true, ...(of.includes(':') ? { [kind]: name } : {}) }
      return (await told(api.GET('/v1/stats/history', { params: { query } }))).total.sum
    },
    enabled: from < to,
    placeholderData: undefined,
    refetchInterval: () => Date.parse(to) > Date.now() && 10_000,
  })
}

export type MarkAt = components['schemas']['Mark']

/** useMarks lists the moments of the last 30 days that are drawn on charts, the latest first. */
export function useMarks() {
  return useQuery({
    queryKey: keys.marks,
    queryFn: async () => {
      const from = new Date(Date.now() - 30 * 86_400_000).toISOString()
      return (await told(api.GET('/v1/marks', { params: { query: { from } } }))).marks.toReversed()
    },
    refetchInterval: 30_000,
  })
}

export type Follow = components['schemas']['Follow']

/** useFollows lists the labels that are followed. */
export function useFollows() {
  return useQuery({
    queryKey: keys.follows,
    queryFn: async () => (await told(api.GET('/v1/follow'))).follows,
    refetchInterval: 5000,
  })
}

/** useForecast tells when a queue is clear: also with other slots, and how many slots it takes by a time. */
export function useForecast(name: string, slots?: number, by?: string) {
  return useQuery({
    queryKey: keys.forecast(name, slots, by),
    queryFn: () => told(api.GET('/v1/queues/{name}/forecast', { params: { path: { name }, query: { slots, by } } })),
    refetchInterval: 5000,
  })
}

/** useSessions lists who is signed in: the reader alone, or everybody for an operator. */
export function useSessions() {
  return useQuery({ queryKey: keys.sessions, queryFn: async () => (await told(api.GET('/v1/sessions'))).sessions, refetchInterval: 30_000 })
}

/** useMayAct tells whether the reader may do more than read. */
export function useMayAct(): boolean {
  // It was asked before the page was drawn, so that no button comes later; asked again where that failed.
  const role = useQuery({ queryKey: keys.reader, queryFn: () => told(api.GET('/v1/session')), initialData: reader }).data?.role
  return role === 'operator' || role === 'keeper'
}

/** From more workers than this on they are read less often. */
export const manyWorkers = 100

/** useWorkers lists the workers. What their slots do changes without a word of the service, hence the interval. */
export function useWorkers() {
  return useQuery({
    queryKey: keys.workers.list,
    queryFn: () =>
      everyPage(
        (cursor) => told(api.GET('/v1/workers', part(cursor))),
        (p) => p.workers,
      ),
    refetchInterval: (q) => ((q.state.data?.length ?? 0) > manyWorkers ? 10_000 : 2000),
    structuralSharing: false, // they differ each time
  })
}

/** useFewWorkers tells of the first workers, and how many there are in all, with their slots. */
export function useFewWorkers(limit: number) {
  return useQuery({
    queryKey: keys.workers.first(limit),
    queryFn: () => told(api.GET('/v1/workers', { params: { query: { limit } } })),
    refetchInterval: 2000,
  })
}

/** useCauses lists what jobs died of. */
export function useCauses(queue?: string) {
  return useQuery({
    queryKey: keys.causes.of(queue),
    queryFn: () =>
      everyPage(
        (cursor) => told(api.GET('/v1/causes', { params: { query: { queue, limit: largestPage, cursor } } })),
        (p) => p.causes,
      ),
    refetchInterval: 5000,
  })
}

/** useCause tells about one cause, with its history. */
export function useCause(id: number, wanted: boolean) {
  return useQuery({
    queryKey: keys.causes.one(id),
    queryFn: () => told(api.GET('/v1/causes/{id}', { params: { path: { id } } })),
    enabled: wanted,
    placeholderData: undefined,
    refetchInterval: 10_000,
  })
}

/** useInDoubt counts the jobs that have a step of which nobody knows whether it was done; told is false where there may be more. */
export function useInDoubt() {
  return useQuery({
    queryKey: keys.inDoubt,
    queryFn: async () => {
      const page = await told(api.GET('/v1/jobs', { params: { query: { steps: 'in_doubt', limit: 500 } } }))
      return { jobs: page.jobs.length, all: !page.next_cursor }
    },
    refetchInterval: 10_000,
  })
}

/** useLastDone finds the newest job of a task that is done. */
export function useLastDone(task: string) {
  return useQuery({
    queryKey: keys.lastDone(task),
    queryFn: async () =>
      (await told(api.GET('/v1/jobs', { params: { query: { task: [task], state: ['done'], limit: 1 } } }))).jobs[0]?.id ?? null,
    placeholderData: undefined,
  })
}

/** usePatched shows what a merge patch would make of the first payload of a cause's jobs. */
export function usePatched(filter: string, patch: string, wanted: boolean) {
  return useQuery({
    queryKey: keys.patched(filter, patch),
    queryFn: async () => {
      const body = `{"action":"requeue","filter":${filter},"dry_run":true,"payload_patch":${patch}}`
      const text = await told(
        api.POST('/v1/jobs/act', {
          params: { header: { 'Idempotency-Key': newKey() } },
          body: { action: 'requeue' },
          bodySerializer: () => body,
          parseAs: 'text',
        }),
      )
      return (exact(text as unknown as string) as Operation).example ?? null
    },
    enabled: wanted,
    placeholderData: undefined,
  })
}

export type Setting = paths['/v1/setup']['get']['responses']['200']['content']['application/json']['settings'][number]

/** useSettings lists all settings in force, and where each comes from. */
export function useSettings() {
  return useQuery({
    queryKey: keys.settings,
    queryFn: async () => (await told(api.GET('/v1/setup'))).settings,
    refetchInterval: 30_000,
  })
}

export function useTasks() {
  return useQuery({
    queryKey: keys.tasks,
    queryFn: () =>
      everyPage(
        (cursor) => told(api.GET('/v1/tasks', part(cursor))),
        (p) => p.tasks,
      ),
    refetchInterval: 10_000,
  })
}

/** useStarts lists the latest starts of a queue, latest first. */
export function useStarts(queue: string, limit: number) {
  return useQuery({
    queryKey: keys.starts(queue, limit),
    queryFn: async () => (await told(api.GET('/v1/queues/{name}/starts', { params: { path: { name: queue }, query: { limit } } }))).starts,
    refetchInterval: 2000,
  })
}

/** useLanes lists the first lanes of a queue that a job holds; all is false where there are more. */
export function useLanes(queue: string) {
  return useQuery({
    queryKey: keys.lanes(queue),
    queryFn: async () => {
      const page = await told(api.GET('/v1/queues/{name}/lanes', { params: { path: { name: queue }, query: { limit: 100 } } }))
      return { lanes: page.lanes, all: !page.next_cursor }
    },
    refetchInterval: 3000,
  })
}

/** useSchedules lists the schedules. */
export function useSchedules() {
  return useQuery({
    queryKey: keys.schedules.list,
    queryFn: () =>
      everyPage(
        (cursor) => told(api.GET('/v1/schedules', part(cursor))),
        (p) => p.schedules,
      ),
    refetchInterval: 3000,
  })
}

/** useSchedule reads one schedule, whose payload keeps the digits of its numbers. */
export function useSchedule(name: string, wanted: boolean) {
  return useQuery({
    queryKey: keys.schedules.one(name),
    queryFn: async () =>
      exact(await told(api.GET('/v1/schedules/{name}', { params: { path: { name } }, parseAs: 'text' }))) as ScheduleStatus,
    enabled: wanted,
    placeholderData: undefined,
    refetchInterval: 3000,
  })
}

/** useRuns reads the history of a schedule, latest first. */
export function useRuns(name: string) {
  return useQuery({
    queryKey: keys.schedules.runs(name),
    queryFn: async () => (await told(api.GET('/v1/schedules/{name}/runs', { params: { path: { name }, query: { limit: 60 } } }))).runs,
    refetchInterval: 3000,
  })
}

/** useComing tells what becomes due within a day. */
export function useComing(queue?: string) {
  return useQuery({
    queryKey: keys.coming(queue),
    queryFn: () => told(api.GET('/v1/coming', { params: { query: { queue, span: '1d', limit: 500 } } })),
    refetchInterval: 5000,
  })
}

/** useCron tells what a rule means. */
export function useCron(expr: string, every: string, zone: string) {
  return useQuery({
    queryKey: keys.explain.cron(expr, every, zone),
    queryFn: () =>
      told(api.GET('/v1/explain/cron', { params: { query: every ? { every, count: 5 } : { expr, zone: zone || 'UTC', count: 5 } } })),
  })
}

/** usePreview tells when each attempt of a retry would come. */
export function usePreview(retry: Retry | undefined, maxAttempts: number | undefined) {
  return useQuery({
    queryKey: keys.explain.retry(retry, maxAttempts),
    queryFn: () => told(api.POST('/v1/explain/retry', { body: { retry, max_attempts: maxAttempts, limit: 60 } })),
  })
}

/** useActions lists what operators did, latest first. */
export function useActions() {
  return useQuery({
    queryKey: keys.actions,
    queryFn: async () => (await told(api.GET('/v1/actions', { params: { query: { limit: 60 } } }))).actions,
    refetchInterval: 5000,
  })
}

/** useOperations lists what was done to many jobs, latest first; often while one is under way. */
export function useOperations() {
  return useQuery({
    queryKey: keys.operations,
    queryFn: async () => (await told(api.GET('/v1/operations'))).operations,
    refetchInterval: (q) => (q.state.data?.some((o) => o.state === 'trial' || o.state === 'running') ? 500 : 5000),
  })
}

/** useLog reads the lines of an attempt. */
export function useLog(id: number, attempt: number, wanted: boolean) {
  return useQuery({
    queryKey: keys.job.log(id, attempt),
    queryFn: async () => (await told(api.GET('/v1/jobs/{id}/log', { params: { path: { id }, query: { attempt } } }))).lines,
    enabled: wanted,
    placeholderData: undefined,
  })
}

export const pageSize = 60

export function useJobs(filter: Filter) {
  return useInfiniteQuery({
    queryKey: keys.jobs.page(filter),
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      told(
        api.GET('/v1/jobs', {
          params: {
            query: { ...queryOf(filter), limit: pageSize, cursor: pageParam },
          },
        }),
      ),
    getNextPageParam: (page) => page.next_cursor,
  })
}

/** exact reads JSON so that a number which JavaScript would round keeps its digits when it is written again. */
export function exact(text: string): unknown {
  const raw = (JSON as unknown as { rawJSON?: (s: string) => unknown }).rawJSON
  if (!raw) return JSON.parse(text)
  const revive = (_: string, v: unknown, c?: { source?: string }) =>
    typeof v === 'number' && c?.source !== undefined && String(v) !== c.source ? raw(c.source) : v
  return (JSON.parse as (t: string, r: typeof revive) => unknown)(text, revive)
}

export function useJob(id: number) {
  return useQuery({
    queryKey: keys.job.one(id),
    queryFn: async () => exact(await told(api.GET('/v1/jobs/{id}', { params: { path: { id } }, parseAs: 'text' }))) as Job,
    placeholderData: undefined,
  })
}
