import { useEffect, useState } from 'react'

/** useSettled gives what a text stands for once the text has not changed for a while. */
export function useSettled<T>(text: string, ms: number, read: (text: string) => T): T {
  const [settled, set] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => set(text), ms)
    return () => clearTimeout(timer)
  }, [text, ms])
  return read(settled)
}
