// What has just been done, for those who see the page and those who hear it.
import { useSyncExternalStore } from 'react'

export interface Said {
  text: string
  to?: string
}

const shownFor = 8000

let said: Said | undefined
let watchers: (() => void)[] = []
let timer: ReturnType<typeof setTimeout> | undefined

function set(next?: Said) {
  said = next
  for (const w of watchers) w()
}

/** announce says what was done, and where more of it stands. */
export function announce(text: string, to?: string) {
  set({ text, to })
  clearTimeout(timer)
  timer = setTimeout(() => set(undefined), shownFor)
}

export const quiet = () => set(undefined)

/** useSaid tells what was said last. */
export function useSaid(): Said | undefined {
  return useSyncExternalStore(
    (w) => {
      watchers.push(w)
      return () => {
        watchers = watchers.filter((x) => x !== w)
      }
    },
    () => said,
  )
}
