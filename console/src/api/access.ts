// The token that a service may ask for. It is kept for this tab alone, and is
// gone when the tab is.
import { useSyncExternalStore } from 'react'

const place = 'token'

export const token = sessionStorage.getItem(place) ?? ''

let refused = false
let watchers: (() => void)[] = []

/** useRefused tells whether the service asks for a token that it has not got. */
export function useRefused(): boolean {
  return useSyncExternalStore(
    (w) => {
      watchers.push(w)
      return () => {
        watchers = watchers.filter((x) => x !== w)
      }
    },
    () => refused,
  )
}

export function refuse() {
  refused = true
  for (const w of watchers) w()
}

/** enter begins anew with a token; forget without one. */
export function enter(given: string) {
  sessionStorage.setItem(place, given)
  location.reload()
}

export function forget() {
  sessionStorage.removeItem(place)
  location.reload()
}

/** newKey draws an Idempotency-Key. crypto.randomUUID is not there where the service is reached without TLS. */
export function newKey(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')
}
