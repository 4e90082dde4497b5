// The moment under the pointer, which all that is drawn over time on a page shows.
import { useSyncExternalStore } from 'react'

let at: number | null = null
let watchers: (() => void)[] = []

/** point sets the moment, in seconds since 1970; null where nothing is pointed at. */
export function point(seconds: number | null) {
  if (seconds === at) return
  at = seconds
  for (const w of watchers) w()
}

/** onPoint calls a function where another moment is pointed at, until it is told to stop. */
export function onPoint(w: () => void): () => void {
  watchers.push(w)
  return () => {
    watchers = watchers.filter((x) => x !== w)
  }
}

export const pointed = () => at

/** usePoint tells the moment that is pointed at. */
export const usePoint = () => useSyncExternalStore(onPoint, pointed)
