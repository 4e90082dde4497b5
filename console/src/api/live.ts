// Follows the service's events and fetches anew what they say has changed. The
// stream is read by fetch, which unlike EventSource can carry a token.
import { useSyncExternalStore } from 'react'

import { queryClient } from './client'

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
    void queryClient.invalidateQueries({ queryKey: ['stats'] })
    void queryClient.invalidateQueries({ queryKey: ['jobs'] })
    void queryClient.invalidateQueries({
      queryKey: ['job'],
      predicate: (q) => many || changed.has(q.queryKey[1] as number),
    })
    changed.clear()
    many = false
  }, 600)
}

function take(event: string, data: string) {
  if (event === 'reset') note([], true)
  if (event !== 'jobs') return
  const told = JSON.parse(data) as { ids: number[] | null; many: boolean }
  note(told.ids ?? [], told.many)
}

/** read gives every event of a stream to take. */
async function read(body: ReadableStream<Uint8Array>) {
  const reader = body.pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    set({ live: true, at: new Date() })
    const events = (rest + value).split('\n\n')
    rest = events.pop() ?? ''
    for (const text of events) {
      const event = /^event: (.*)$/m.exec(text)?.[1]
      const data = /^data: (.*)$/m.exec(text)?.[1]
      if (event && data) take(event, data)
    }
  }
}

/** follow keeps the stream open for as long as the page is. */
export async function follow(): Promise<never> {
  for (let pause = 500; ; pause = Math.min(pause * 2, 4000)) {
    try {
      const answer = await fetch('/v1/events')
      if (answer.ok && answer.body) {
        pause = 500
        await read(answer.body)
      }
    } catch {
      // Said on the page: the link is not live.
    }
    set({ ...link, live: false })
    await new Promise((r) => setTimeout(r, pause))
  }
}
