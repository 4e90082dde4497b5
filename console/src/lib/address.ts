// What the page shows stands in its address: the filter in the query, the open
// job in the path.
import { useMemo } from 'react'
import { useLocation, useNavigate, useSearchParams } from 'react-router'

import { type Filter, type Job, type State, filterNames } from '../api/client'
import { states } from './words'

export function useFilter(): Filter {
  const [params] = useSearchParams()
  return useMemo(() => {
    const f: Filter = {}
    for (const name of filterNames) {
      const value = name === 'label' ? params.getAll(name).join('\n') : params.get(name)
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
    if (value && name === 'label') value.split('\n').forEach((label) => q.append(name, label))
    else if (value) q.set(name, value)
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

/** handOver is the address of a list of jobs that also tells in which states they are now. */
export function handOver(jobs: Job[]): string {
  const q = new URLSearchParams({
    ids: jobs.map((j) => j.id).join(','),
    was: jobs.map((j) => states.indexOf(j.state).toString(36)).join(''),
    at: new Date().toISOString(),
  })
  return `/jobs?${q}`
}

/** useWas tells in which state a job was when the link to it was made; undefined where the address is no such link. */
export function useWas(id: number): State | undefined {
  const [params] = useSearchParams()
  const at = params.get('ids')?.split(',').indexOf(String(id)) ?? -1
  return at < 0 ? undefined : states[parseInt(params.get('was')?.[at] ?? '', 36)]
}

/** useHandedOver tells when the link that was followed was made. */
export function useHandedOver(): string | undefined {
  const [params] = useSearchParams()
  return params.get('was') ? (params.get('at') ?? undefined) : undefined
}
