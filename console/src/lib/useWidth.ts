import { type RefCallback, useCallback, useState } from 'react'

/** useWidth tells how wide a box is, in whole pixels; 0 until it is known. */
export function useWidth<T extends HTMLElement>(): [RefCallback<T>, number] {
  const [width, setWidth] = useState(0)
  const box = useCallback((element: T | null) => {
    if (!element) return
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry!.contentRect.width)))
    watch.observe(element)
    return () => watch.disconnect()
  }, [])
  return [box, width]
}
