import { useState } from 'react'
import { Link } from 'react-router'

import { type Job, useJob, useLastDone } from '../../api/client'
import { Difference } from '../../parts/Difference'
import { age, span } from '../../lib/format'

/** Compare sets a job that failed beside the last of its task that was done. */
export function Compare({ j, now }: { j: Job; now: number }) {
  const [open, setOpen] = useState(false)
  return (
    <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)} className="mt-6">
      <summary className="press">Compare it with the last {j.task} that was done</summary>
      {open && <LastDone j={j} now={now} />}
    </details>
  )
}

function LastDone({ j, now }: { j: Job; now: number }) {
  const { data: id, isPending, error } = useLastDone(j.task)
  if (error) return <p>It could not be read: {error.message}.</p>
  if (isPending) return <p className="text-quiet">Reading …</p>
  if (!id) return <p>No job of this task is done, as far as jobs are kept.</p>
  return <Beside j={j} id={id} now={now} />
}

/** compared are the parts in which two jobs may differ, as people read them. */
function compared(j: Job): Record<string, string> {
  const last = j.attempts?.at(-1)
  const took = last?.ended_at ? Date.parse(last.ended_at) - Date.parse(last.started_at) : undefined
  return {
    queue: j.queue,
    priority: String(j.priority),
    owner: j.owner ?? '',
    labels: Object.entries(j.labels ?? {})
      .map(([k, v]) => `${k} ${v}`)
      .join(', '),
    worker: last?.worker_name ?? '',
    version: last?.worker_version ?? '',
    'last attempt took': took === undefined ? '' : span(took),
    'payload bytes': String(j.payload_bytes),
  }
}

function Beside({ j, id, now }: { j: Job; id: number; now: number }) {
  const { data: other } = useJob(id)
  if (!other) return <p className="text-quiet">Reading …</p>
  const [mine, its] = [compared(j), compared(other)]
  const differ = Object.keys(mine).filter((k) => mine[k] !== its[k])
  return (
    <section aria-label="Compared with the last one done">
      <table className="mt-2 w-full table-fixed">
        <thead className="text-left text-[13px] text-quiet">
          <tr className="h-[32px] border-b border-hairline [&>th]:pr-4 [&>th]:font-normal">
            <th className="w-36">differs in</th>
            <th>this job</th>
            <th>
              <Link className="press" to={`/jobs/${id}`}>
                job {id}
              </Link>
              , done {other.finished_at && age(other.finished_at, now)}
            </th>
          </tr>
        </thead>
        <tbody>
          {differ.map((k) => (
            <tr key={k} className="h-[32px] border-b border-hairline [&>td]:pr-4 [&>td]:break-words">
              <td className="text-quiet">{k}</td>
              <td>{mine[k] || 'none'}</td>
              <td>{its[k] || 'none'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="pt-3 text-quiet">Payload: − of job {id}, + of this one</p>
      <Difference name="Difference of the payloads" before={other.payload ?? null} after={j.payload ?? null} />
    </section>
  )
}
