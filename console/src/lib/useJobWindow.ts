import { useEffect, useMemo, useSyncExternalStore } from 'react'

import type { Filter } from '../api/client'
import { onJobs } from '../api/live'
import { JobWindow, type View } from '../api/window'

/** useJobWindow keeps the jobs that match a filter, from the first ones on. */
export function useJobWindow(filter: Filter): [View, JobWindow] {
  const key = JSON.stringify(filter)
  const rows = useMemo(() => new JobWindow(JSON.parse(key) as Filter), [key])
  useEffect(() => {
    rows.start()
    const off = onJobs((changed, many) => rows.note(changed, many))
    const seen = () => !document.hidden && rows.wake()
    document.addEventListener('visibilitychange', seen)
    return () => {
      rows.stop()
      off()
      document.removeEventListener('visibilitychange', seen)
    }
  }, [rows])
  return [useSyncExternalStore(rows.subscribe, rows.snapshot), rows]
}
