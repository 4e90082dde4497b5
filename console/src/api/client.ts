// The API, typed by its description, and the queries the page is made of.
import { QueryClient, keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import createClient from 'openapi-fetch'

import { refuse, token } from './access'
import type { components, paths } from './schema'

export type Job = components['schemas']['Job']
export type Attempt = components['schemas']['Attempt']
export type State = components['schemas']['State']
export type Stats = components['schemas']['Stats']
export type Counts = components['schemas']['Counts']
export type Worker = components['schemas']['Worker']
export type Slot = components['schemas']['Slot']
export type Queue = components['schemas']['Queue']
export type Cause = components['schemas']['Cause']
export type Recovery = components['schemas']['Recovery']
export type Operation = components['schemas']['Operation']
export type LogLine = components['schemas']['Log']['lines'][number]
type Problem = components['schemas']['Problem']

export const api = createClient<paths>({ baseUrl: '/' })

api.use({
  onRequest({ request }) {
    if (token) request.headers.set('Authorization', `Bearer ${token}`)
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

/** Filter is what the list is narrowed to; it stands in the address. */
export interface Filter {
  state?: string
  queue?: string
  task?: string
  owner?: string
  key?: string
  label?: string
  cause?: string
  error?: string
  ids?: string
  since?: string
  until?: string
}

export const filterNames = ['state', 'queue', 'task', 'owner', 'key', 'label', 'cause', 'error', 'ids', 'since', 'until'] as const

export function useStats(queue?: string) {
  return useQuery({
    queryKey: ['stats', queue],
    queryFn: () => told(api.GET('/v1/stats', { params: { query: { queue } } })),
    refetchInterval: 5000,
  })
}

/** useAbout tells who the service takes the reader for. */
export function useAbout() {
  return useQuery({ queryKey: ['about'], queryFn: () => told(api.GET('/v1')) })
}

/** useMayAct tells whether the reader may do more than read. */
export function useMayAct(): boolean {
  return useAbout().data?.role === 'operator'
}

/** useWorkers lists the workers. What their slots do changes without a word of the service, hence the interval. */
export function useWorkers() {
  return useQuery({ queryKey: ['workers'], queryFn: async () => (await told(api.GET('/v1/workers'))).workers, refetchInterval: 2000 })
}

/** useCauses lists what jobs died of. */
export function useCauses(queue?: string) {
  return useQuery({ queryKey: ['causes', queue], queryFn: async () => (await told(api.GET('/v1/dead/causes', { params: { query: { queue } } }))).causes, refetchInterval: 5000 })
}

/** useOperations lists what was done to many jobs, latest first; often while one is under way. */
export function useOperations() {
  return useQuery({
    queryKey: ['operations'],
    queryFn: async () => (await told(api.GET('/v1/operations'))).operations,
    refetchInterval: (q) => (q.state.data?.some((o) => o.state === 'trial' || o.state === 'running') ? 500 : 5000),
  })
}

/** useLog reads the lines of an attempt. */
export function useLog(id: number, attempt: number, wanted: boolean) {
  return useQuery({
    queryKey: ['job', id, 'log', attempt],
    queryFn: async () => (await told(api.GET('/v1/jobs/{id}/log', { params: { path: { id }, query: { attempt } } }))).lines,
    enabled: wanted,
    placeholderData: undefined,
  })
}

export const pageSize = 60

export function useJobs(filter: Filter) {
  return useInfiniteQuery({
    queryKey: ['jobs', filter],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      told(
        api.GET('/v1/jobs', {
          params: { query: { ...filter, cause: filter.cause ? Number(filter.cause) : undefined, label: filter.label ? [filter.label] : undefined, limit: pageSize, cursor: pageParam } },
        }),
      ),
    getNextPageParam: (page) => page.next_cursor,
  })
}

/** exact reads JSON so that a number which JavaScript would round keeps its digits when it is written again. */
function exact(text: string): unknown {
  const raw = (JSON as unknown as { rawJSON?: (s: string) => unknown }).rawJSON
  if (!raw) return JSON.parse(text)
  const revive = (_: string, v: unknown, c?: { source?: string }) =>
    typeof v === 'number' && c?.source !== undefined && String(v) !== c.source ? raw(c.source) : v
  return (JSON.parse as (t: string, r: typeof revive) => unknown)(text, revive)
}

export function useJob(id: number) {
  return useQuery({
    queryKey: ['job', id],
    queryFn: async () => exact(await told(api.GET('/v1/jobs/{id}', { params: { path: { id } }, parseAs: 'text' }))) as Job,
    placeholderData: undefined,
  })
}
