// When the reader looked at something last, so that what is new since then can be told. It is kept
// in the browser: it is the reader's, not the service's.
import { useEffect, useState } from 'react'

/** A look ends when the page is left for so long: a reload is no new look. */
const sameLook = 5 * 60_000

interface Looks {
  /** before is the end of the look before this one, now how far this one has come. */
  before: number
  now: number
}

function looksAt(key: string): Looks {
  try {
    return JSON.parse(localStorage.getItem(key) ?? '') as Looks
  } catch {
    return { before: 0, now: 0 }
  }
}

/** useLastLook tells when the reader looked at something before, and notes that it is looked at; 0 where that is not known. */
export function useLastLook(what: string): number {
  const key = `looked at ${what}`
  const [before] = useState(() => {
    const last = looksAt(key)
    return Date.now() - last.now > sameLook ? last.now : last.before
  })
  useEffect(() => {
    const note = () => {
      if (document.hidden) return
      try {
        localStorage.setItem(key, JSON.stringify({ before, now: Date.now() } satisfies Looks))
      } catch {
        // a browser that keeps nothing tells of nothing new
      }
    }
    note()
    const timer = setInterval(note, 30_000)
    return () => clearInterval(timer)
  }, [key, before])
  return before
}
