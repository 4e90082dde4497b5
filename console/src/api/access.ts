// Who the reader is. A service with tokens gives whoever has shown one the
// cookie of a session, which no script can read; what changes something carries
// a word beside it.
import { useSyncExternalStore } from 'react'

import { base } from '../lib/base'
import type { components } from './schema'

type Status = components['schemas']['SessionStatus']

let status: Status | undefined
let refused = false
let watchers: (() => void)[] = []

/** useRefused tells whether the service asks for a token. */
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

/** refuse shows the page that asks for a token: there is no session, or no longer. */
export function refuse() {
  refused = true
  for (const w of watchers) w()
}

/** reader is whom the service took the reader for when it was asked; undefined where it gave no answer. */
export const reader = () => status

/** session is the reader's; there is none where the service asks for no token, or has refused. */
export const session = () => (status?.session ? status : undefined)

/** csrf are the headers of a call that changes something. */
export const csrf = (): Record<string, string> => (status?.csrf ? { 'X-CSRF-Token': status.csrf } : {})

/** ask asks who the reader is, before anything else is asked. */
export async function ask() {
  try {
    const answer = await fetch(`${base}/v1/session`)
    if (answer.status === 401) refuse()
    else if (answer.ok) status = (await answer.json()) as Status
  } catch {
    // The service is away; the page says so.
  }
}

/** looks are the roles that may look at everything. */
const looks: string[] = ['reader', 'operator', 'keeper']

/** enter shows the service a token, and begins anew in its session; it answers why the service refuses. */
export async function enter(token: string): Promise<string> {
  const answer = await fetch(`${base}/v1/session`, {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ token }),
  })
  if (!answer.ok) return ((await answer.json()) as { detail?: string }).detail ?? answer.statusText
  status = (await answer.json()) as Status
  if (!looks.includes(status.role)) {
    await fetch(`${base}/v1/session`, { method: 'DELETE', headers: csrf() })
    const { principal, role } = status
    status = undefined
    return `The token of ${principal} has the role ${role}, which cannot look at the console; sign in with one of a ${looks.join(', ')}.`
  }
  location.reload()
  return ''
}

/** leave ends the session, in all tabs. */
export async function leave() {
  await fetch(`${base}/v1/session`, { method: 'DELETE', headers: csrf() })
  location.reload()
}

/** newKey draws an Idempotency-Key. crypto.randomUUID is not there where the service is reached without TLS. */
export function newKey(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')
}
