import { useCallback } from 'react'
import { useSearchParams } from 'react-router'

/** useAddress keeps a value in the query of the address, so that a link, a reload and a step back bring it again; an empty one is left out. */
export function useAddress(name: string): [string, (value?: string) => void] {
  const [params, setParams] = useSearchParams()
  const set = useCallback(
    (value?: string) => {
      const next = new URLSearchParams(location.search) // which knows of what was set a moment ago
      if (value) next.set(name, value)
      else next.delete(name)
      setParams(next, { replace: true })
    },
    [name, setParams],
  )
  return [params.get(name) ?? '', set]
}
