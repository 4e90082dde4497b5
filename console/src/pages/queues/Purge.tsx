import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { newKey } from '../../api/access'
import { type Operation, type Queue, api, told } from '../../api/client'
import { keys } from '../../api/keys'
import { grouped, localTimes } from '../../lib/format'
import { quoted } from '../../lib/shell'
import { outcomeOf } from '../../lib/acts'
import { Question } from '../../parts/Question'
import { Why } from '../../parts/Why'

/** Purge removes what waits in a queue. */
export function Purge({ q }: { q: Queue }) {
  const [note, setNote] = useState('')
  const waiting = q.counts.ready + q.counts.held + q.counts.scheduled + q.counts.backoff
  const send = (dry_run: boolean) =>
    told(
      api.POST('/v1/queues/{name}/purge', {
        params: { path: { name: q.name }, header: { 'Idempotency-Key': newKey() } },
        body: { dry_run, ...(note && !dry_run ? { note } : {}) },
      }),
    )
  if (waiting === 0) return null
  const jobs = `${grouped(waiting)} waiting ${waiting === 1 ? 'job' : 'jobs'}`
  return (
    <Question
      title={`Purge ${jobs}`}
      follows={<Follows queue={q.name} waiting={waiting} send={() => send(true)} />}
      confirm={`Purge ${jobs}`}
      command={`hmule queue purge ${quoted(q.name)}${note ? ` --note ${quoted(note)}` : ''}`}
      send={() => send(false)}
      done={(answer) => outcomeOf(answer as Operation)}
    >
      <Why value={note} set={setNote} />
    </Question>
  )
}

function Follows({ queue, waiting, send }: { queue: string; waiting: number; send: () => Promise<Operation> }) {
  const dry = useQuery({ queryKey: keys.dryRun({ purge: queue, waiting }), queryFn: send, staleTime: 0, gcTime: 0 })
  if (dry.error) return <p role="alert">{dry.error.message}.</p>
  return dry.data?.follows?.map((text) => <p key={text}>{localTimes(text)}</p>) ?? <p className="text-quiet">Counting …</p>
}
