import { Link } from 'react-router'

import { useFewWorkers } from '../../api/client'
import { grouped } from '../../lib/format'
import { useNow } from '../../lib/useNow'
import { Cells } from '../workers/Cells'
import { nameOf } from '../workers/workerWords'

/** How many workers are drawn, and how many are read, some of which may be silent. */
const most = 4
const read = 12

/** SlotStrip draws the slots of the worker processes. */
export function SlotStrip() {
  const { data } = useFewWorkers(read)
  const now = useNow(1000)
  const living = data?.workers.filter((w) => !w.silent) ?? []
  const processes = data ? data.total.workers - data.total.silent : 0
  return (
    <section aria-label="Workers" className="min-w-0 xl:mt-3">
      <h2 className="flex items-baseline gap-2">
        <Link className="font-semibold whitespace-nowrap hover:underline" to="/workers">
          Workers
        </Link>
        <span className="text-quiet">
          {data &&
            (processes === 0
              ? 'none is running'
              : `${grouped(processes)} ${processes === 1 ? 'process' : 'processes'}, ${grouped(data.total.running)} of ${grouped(data.total.slots)} slots taken`)}
        </span>
      </h2>
      <ul className="min-h-[24px]">
        {living.slice(0, most).map((w) => (
          <li key={w.id} className="flex min-h-[26px] items-center gap-3">
            <span className="w-28 shrink-0 truncate">
              <bdi>{nameOf(w)}</bdi>
            </span>
            <Cells w={w} now={now} width={24} />
          </li>
        ))}
      </ul>
      {processes > most && (
        <Link className="press" to="/workers">
          All {grouped(processes)} processes
        </Link>
      )}
    </section>
  )
}
