import { Link } from 'react-router'

import { useWorkers } from '../../api/client'
import { grouped } from '../../lib/format'
import { useNow } from '../../lib/useNow'
import { Cells } from '../workers/Cells'
import { nameOf } from '../workers/workerWords'

const most = 4

/** SlotStrip draws the slots of the worker processes. */
export function SlotStrip() {
  const { data } = useWorkers()
  const now = useNow(1000)
  const living = data?.filter((w) => !w.silent) ?? []
  const slots = living.reduce((n, w) => n + (w.slots ?? 0), 0)
  const running = living.reduce((n, w) => n + w.running, 0)
  return (
    <section aria-label="Workers" className="min-w-0 xl:mt-3">
      <h2 className="flex items-baseline gap-2">
        <Link className="font-semibold whitespace-nowrap hover:underline" to="/workers">
          Workers
        </Link>
        <span className="text-quiet">
          {data &&
            (living.length === 0
              ? 'none is running'
              : `${grouped(living.length)} ${living.length === 1 ? 'process' : 'processes'}, ${grouped(running)} of ${grouped(slots)} slots taken`)}
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
      {living.length > most && (
        <Link className="press" to="/workers">
          All {grouped(living.length)} processes
        </Link>
      )}
    </section>
  )
}
