// What the page shows stands in its address: the filter in the query, the open
// job in the path.
import { useMemo } from 'react'
import { useLocation, useNavigate, useSearchParams } from 'react-router'

import { type Filter, filterNames } from '../api/client'

export function useFilter(): Filter {
  const [params] = useSearchParams()
  return useMemo(() => {
    const f: Filter = {}
    for (const name of filterNames) {
      const value = params.get(name)
      if (value) f[name] = value
    }
    return f
  }, [params])
}

/** search writes a filter as an address's query. */
export function search(f: Filter): string {
  const q = new URLSearchParams()
  for (const name of filterNames) {
    const value = f[name]
    if (value) q.set(name, value)
  }
  const text = q.toString()
  return text && '?' + text
}

/** useOpenJob gives the job that is open beside the list. */
export function useOpenJob(): number | undefined {
  const id = /^\/jobs\/(\d+)$/.exec(useLocation().pathname)?.[1]
  return id ? Number(id) : undefined
}

/** path is where a filter, and a job beside it, are found. */
export function path(f: Filter, open?: number): string {
  return (open ? `/jobs/${open}` : '/jobs') + search(f)
}

/** useGo changes parts of the filter and leaves the open job open. */
export function useGo(): (change: Partial<Filter>) => void {
  const navigate = useNavigate()
  const filter = useFilter()
  const open = useOpenJob()
  const { pathname } = useLocation()
  const elsewhere = pathname !== '/jobs' && !open // on another page the filter keeps to it
  return (change) => {
    const next = { ...filter, ...change }
    void navigate(elsewhere ? pathname + search(next) : path(next, open))
  }
}
