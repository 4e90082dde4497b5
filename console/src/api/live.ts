// Follows the service's events and fetches anew what they say has changed.
import { useSyncExternalStore } from 'react'

import { base } from '../lib/base'
import { session } from './access'
import { type State, heard, queryClient } from './client'
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

/** JobChanged is a job that has changed; without a state it changed, and stayed in its state. */
export interface JobChanged {
  id: number
  state?: State
  queue?: string
  task?: string
}

/** Listener hears which jobs have changed; many says that any may have. */
type Listener = (changed: JobChanged[], many: boolean) => void
const listeners = new Set<Listener>()

/** onJobs calls a listener with every change of jobs, until the answer is called. */
export function onJobs(l: Listener): () => void {
  listeners.add(l)
  return () => void listeners.delete(l)
}

const changed = new Set<number>()
let many = false
let due = false

/** How long changes are gathered, so that a busy service does not keep the page busy; longer where very much changes. */
const gatherFor = 1000
const gatherManyFor = 2000

/** note gathers changes. A page that nobody sees asks nothing until somebody does. */
function note(jobs: JobChanged[], everything: boolean) {
  for (const l of listeners) l(jobs, everything)
  jobs.forEach((j) => changed.add(j.id))
  many ||= everything
  if (due) return
  due = true
  setTimeout(
    () => {
      due = false
      if (!document.hidden) renew()
    },
    many ? gatherManyFor : gatherFor,
  )
}

function renew() {
  if (changed.size === 0 && !many) return
  const everything = many
  const ids = new Set(changed)
  changed.clear()
  many = false
  for (const queryKey of [keys.stats.all, keys.jobs.all, keys.causes.all, keys.batches.all, keys.operations])
    void queryClient.invalidateQueries({ queryKey })
  void queryClient.invalidateQueries({ queryKey: keys.job.all, predicate: (q) => everything || ids.has(keys.job.idOf(q.queryKey)) })
}

document.addEventListener('visibilitychange', () => !document.hidden && renew())

let workersDue: ReturnType<typeof setTimeout> | undefined

function renewWorkers() {
  clearTimeout(workersDue)
  workersDue = undefined
  void queryClient.invalidateQueries({ queryKey: keys.workers.all })
}

function take(event: string, data: string) {
  if (event === 'reset') note([], true)
  if (event === 'reset') renewWorkers()
  if (event === 'workers') workersDue ??= setTimeout(renewWorkers, gatherManyFor)
  if (event === 'queues') void queryClient.invalidateQueries({ queryKey: keys.stats.all })
  if (event !== 'jobs') return
  const told = JSON.parse(data) as { jobs: JobChanged[]; many: boolean }
  note(told.jobs, told.many)
}

function hear(told: Told) {
  if ('event' in told && told.id) heard(told.id)
  if ('live' in told) set(told.live ? { live: true, at: new Date() } : { ...link, live: false })
  else take(told.event, told.data)
}

/** listen follows the service: tabs of another session share no stream with it. It goes through one stream for all tabs where the browser can, else through one of its own. */
export function listen() {
  if (typeof SharedWorker === 'undefined') {
    void follow(hear, base)
    return
  }
  const { port } = new SharedWorker(new URL('./shared.ts', import.meta.url), {
    type: 'module',
    name: `events ${base} ${session()?.session ?? ''}`,
  })
  port.onmessage = (e: MessageEvent<Told>) => hear(e.data)
  port.postMessage({ base })
  addEventListener('pagehide', () => port.postMessage('goodbye'))
  addEventListener('pageshow', (e) => e.persisted && location.reload())
}
