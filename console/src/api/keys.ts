import type { Filter, Retry } from './client'

/** keys are the keys of all questions to the service, by subject. What is called all stands for each key that begins so. */
export const keys = {
  reader: ['reader'] as const,
  stats: { all: ['stats'] as const, of: (queue?: string) => ['stats', 'of', queue] as const },
  history: (span: string, by: string) => ['history', span, by] as const,
  spanOf: (of: string, from: string, to: string) => ['span of', of, from, to] as const,
  marks: ['marks'] as const,
  follows: ['follows'] as const,
  forecast: (queue: string, slots?: number, by?: string) => ['forecast', queue, slots, by] as const,
  jobs: { all: ['jobs'] as const, page: (filter: Filter) => ['jobs', 'page', filter] as const },
  // These two search the jobs and are not asked again with every change.
  inDoubt: ['in doubt'] as const,
  lastDone: (task: string) => ['last done', task] as const,
  job: {
    all: ['job'] as const,
    one: (id: number) => ['job', id] as const,
    log: (id: number, attempt: number) => ['job', id, 'log', attempt] as const,
    /** which job a key is about. */
    idOf: (key: readonly unknown[]) => key[1] as number,
  },
  batches: {
    all: ['batches'] as const,
    list: (state?: string) => ['batches', 'list', state] as const,
    one: (id: number) => ['batches', 'one', id] as const,
    graph: (id: number) => ['batches', 'graph', id] as const,
  },
  causes: {
    all: ['causes'] as const,
    of: (queue?: string) => ['causes', 'of', queue] as const,
    one: (id: number) => ['causes', 'one', id] as const,
  },
  operations: ['operations'] as const,
  dryRun: (body: unknown) => ['dry run', body] as const,
  actions: ['actions'] as const,
  patched: (filter: string, patch: string) => ['patched', filter, patch] as const,
  workers: {
    all: ['workers'] as const,
    list: ['workers', 'list'] as const,
    first: (limit: number) => ['workers', 'first', limit] as const,
  },
  tasks: ['tasks'] as const,
  settings: ['settings'] as const,
  sessions: ['sessions'] as const,
  lanes: (queue: string) => ['lanes', queue] as const,
  starts: (queue: string, limit: number) => ['starts', queue, limit] as const,
  hooks: {
    list: ['hooks', 'list'] as const,
    deliveries: (name: string) => ['hooks', 'deliveries', name] as const,
  },
  endpoints: ['endpoints'] as const,
  alerts: { list: ['alerts', 'list'] as const, setup: ['alerts', 'setup'] as const },
  schedules: {
    list: ['schedules', 'list'] as const,
    one: (name: string) => ['schedules', 'one', name] as const,
    runs: (name: string) => ['schedules', 'one', name, 'runs'] as const,
  },
  coming: (queue?: string) => ['coming', queue] as const,
  explain: {
    cron: (expr: string, every: string, zone: string) => ['explain', 'cron', expr, every, zone] as const,
    retry: (retry?: Retry, maxAttempts?: number) => ['explain', 'retry', retry, maxAttempts] as const,
  },
}
