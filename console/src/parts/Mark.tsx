import type { ReactNode } from 'react'

import type { State } from '../api/client'
import { ink } from '../lib/states'
import { means } from '../lib/words'

// One family: a 12-pixel grid, one stroke, the same round.
const shapes: Record<State, ReactNode> = {
  held: <path d="M4 2.5v7M8 2.5v7" />,
  scheduled: (
    <>
      <circle cx="6" cy="6" r="4.4" />
      <path d="M6 3.4V6l1.9 1.3" />
    </>
  ),
  ready: <circle cx="6" cy="6" r="4.4" />,
  running: (
    <>
      <circle cx="6" cy="6" r="4.4" />
      <path d="M6 1.6a4.4 4.4 0 0 1 0 8.8z" fill="currentColor" />
    </>
  ),
  backoff: <path d="M2.2 6.6A4 4 0 1 0 3.6 3M3.8 1v2.3h2.3" />,
  done: <circle cx="6" cy="6" r="4.4" fill="currentColor" />,
  skipped: <path d="M2 2.8 5.2 6 2 9.2M6.4 2.8 9.6 6 6.4 9.2" />,
  cancelled: (
    <>
      <circle cx="6" cy="6" r="4.4" />
      <path d="m3 9 6-6" />
    </>
  ),
  dead: <path d="M1.6 2.6h8.8L6 10z" fill="currentColor" />,
}

/** Mark is a state's sign; its word goes with it. */
export function Mark({ state, size = 12 }: { state: State; size?: number }) {
  return (
    <svg
      viewBox="0 0 12 12"
      width={size}
      height={size}
      fill="none"
      stroke="currentColor"
      strokeWidth="1.4"
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden
      className={`inline-block shrink-0 ${ink[state]}`}
    >
      {shapes[state]}
    </svg>
  )
}

/** StateWord is a state's mark and word. */
export function StateWord({ state }: { state: State }) {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap" title={means[state]}>
      <Mark state={state} />
      {state}
    </span>
  )
}

/** Mule is the product's own mark: two long ears and a brow. */
export function Mule() {
  return (
    <svg viewBox="0 0 16 16" width="20" height="20" fill="none" stroke="currentColor" strokeWidth="1.5" strokeLinecap="round" aria-hidden>
      <path d="M5.4 9.2C3.4 6.6 3 3.6 3.9 1.4" />
      <path d="M10.6 9.2c2-2.6 2.4-5.6 1.5-7.8" />
      <path d="M3.6 14.2c1-3.4 7.8-3.4 8.8 0" />
    </svg>
  )
}
