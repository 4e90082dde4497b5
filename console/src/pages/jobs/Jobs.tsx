import type { Counts } from '../../api/client'
import { useFilter, useOpenJob } from '../../lib/address'
import { JobBeside } from './JobBeside'
import { JobList } from './JobList'

/** Jobs lists the jobs that the address asks for, and one of them beside. */
export function Jobs({ counts }: { counts?: Counts }) {
  const filter = useFilter()
  const open = useOpenJob()
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <div className={open ? 'max-lg:hidden' : ''}>
        <JobList filter={filter} open={open} counts={counts} />
      </div>
      {open && <JobBeside key={open} id={open} />}
    </div>
  )
}
