// Follows the service's events and fetches anew what they say has changed.
import { useSyncExternalStore } from 'react'

import { token } from './access'
import { queryClient } from './client'
import { keys } from './keys'
import { type Told, follow } from './stream'

export interface Link {
  /** live is true while the stream is open. */
  live: boolean
  /** at is when the service was heard last. */
  at?: Date
}

let link: Link = { live: false }
let watchers: (() => void)[] = []

function set(next: Link) {
  link = next
  for (const w of watchers) w()
}

/** useLink tells whether the service is heard, and when it was last. */
export function useLink(): Link {
  return useSyncExternalStore(
    (w) => {
      watchers.push(w)
      return () => {
        watchers = watchers.filter((x) => x !== w)
      }
    },
    () => link,
  )
}

const changed = new Set<number>()
let many = false
let due = false

/** Changes are gathered for a second at most, so that a busy service does not keep the page busy. */
function note(ids: number[], everything: boolean) {
  ids.forEach((id) => changed.add(id))
  many ||= everything
  if (due) return
  due = true
  setTimeout(() => {
    due = false
    void queryClient.invalidateQueries({ queryKey: keys.stats.all })
    void queryClient.invalidateQueries({ queryKey: keys.jobs.all })
    void queryClient.invalidateQueries({ queryKey: keys.causes.all })
    void queryClient.invalidateQueries({ queryKey: keys.operations })
    void queryClient.invalidateQueries({
      queryKey: keys.job.all,
      predicate: (q) => many || changed.has(keys.job.idOf(q.queryKey)),
    })
    changed.clear()
    many = false
  }, 600)
}

function take(event: string, data: string) {
  if (event === 'reset') note([], true)
  if (event === 'reset' || event === 'workers') void queryClient.invalidateQueries({ queryKey: keys.workers })
  if (event === 'queues') note([], false)
  if (event !== 'jobs') return
  const told = JSON.parse(data) as { ids: number[] | null; many: boolean }
  note(told.ids ?? [], told.many)
}

function hear(told: Told) {
  if ('live' in told) set(told.live ? { live: true, at: new Date() } : { ...link, live: false })
  else take(told.event, told.data)
}

/** nameOf names the stream's worker after the token, so that tabs with different ones share none. It is not a secret that it keeps (FNV-1a). */
function nameOf(text: string): string {
  let hash = 2166136261
  for (const c of text) hash = Math.imul(hash ^ c.charCodeAt(0), 16777619)
  return `events-${(hash >>> 0).toString(16)}`
}

/** listen follows the service: through one stream for all tabs where the browser can, else through one of its own. */
export function listen() {
  if (typeof SharedWorker === 'undefined') {
    void follow(hear, token)
    return
  }
  const { port } = new SharedWorker(new URL('./shared.ts', import.meta.url), { type: 'module', name: nameOf(token) })
  port.onmessage = (e: MessageEvent<Told>) => hear(e.data)
  port.postMessage({ token })
  addEventListener('pagehide', () => port.postMessage('goodbye'))
  addEventListener('pageshow', (e) => e.persisted && location.reload())
}
