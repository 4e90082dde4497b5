import type { Fact } from '../api/client'

/** About is what a fact, or an alert, is about. */
type About = { kind: string } & Omit<Fact, 'kind' | 'text' | 'state'>

/** factPath is the page that shows what a fact is about. */
export function factPath(f: About): string | undefined {
  const queue = f.queue ? encodeURIComponent(f.queue) : ''
  switch (f.kind) {
    case 'new_cause':
    case 'dead':
      return f.cause ? `/dead/${f.cause}` : '/dead'
    case 'no_worker':
    case 'paused':
    case 'behind':
    case 'oldest':
      return queue ? `/queues/${queue}` : '/queues'
    case 'schedule':
    case 'late':
      return f.schedule ? `/coming/${encodeURIComponent(f.schedule)}` : '/coming'
    case 'stuck':
      return f.batch ? `/batches/${f.batch}` : '/batches?state=stuck'
    case 'silent':
      return '/jobs?state=held'
    case 'hook':
      return f.hook ? `/outside/hooks/${f.hook}` : '/outside'
    case 'endpoint':
      return f.endpoint ? `/outside/endpoints/${f.endpoint}` : '/outside'
    case 'in_doubt':
      return '/jobs?steps=in_doubt'
    case 'name':
      return '/workers'
    case 'alerts':
      return '/alerts'
    case 'failing':
      return f.task ? '/settings/' + encodeURIComponent(f.task) : undefined
    case 'operation':
      return '/log'
    default:
      return undefined
  }
}
