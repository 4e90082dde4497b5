import { type RefObject, useLayoutEffect, useRef, useState } from 'react'

/** useWidth tells how wide a box is, in whole pixels; 0 until it is known. */
export function useWidth<T extends HTMLElement>(): [RefObject<T | null>, number] {
  const box = useRef<T>(null)
  const [width, setWidth] = useState(0)
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry!.contentRect.width)))
    watch.observe(box.current!)
    return () => watch.disconnect()
  }, [])
  return [box, width]
}
