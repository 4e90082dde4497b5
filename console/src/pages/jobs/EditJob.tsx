import { useState } from 'react'

import { newKey } from '../../api/access'
import { type Job, api, exact, told } from '../../api/client'
import { pretty } from '../../lib/format'
import { quoted } from '../../lib/shell'
import { finished } from '../../lib/states'
import { problemOf } from '../../lib/json'
import { labelLines, labelsIn } from '../../lib/labels'
import { localOf, timeIn } from '../../lib/when'
import { Difference } from '../../parts/Difference'
import { Asking } from '../../parts/Question'

interface Entered {
  priority: string
  queue: string
  owner: string
  lane: string
  run_at: string
  labels: string
  payload: string
}

function enteredOf(j: Job): Entered {
  return {
    priority: String(j.priority),
    queue: j.queue,
    owner: j.owner ?? '',
    lane: j.lane ?? '',
    run_at: localOf(j.run_at),
    labels: labelLines(j.labels),
    payload: pretty(j.payload ?? null),
  }
}

/** EditJob changes what may be changed of a job: of a finished one its labels and its payload. */
export function EditJob({ j, close }: { j: Job; close: () => void }) {
  const before = enteredOf(j)
  const [now, set] = useState(before)
  const over = finished(j)
  const parts: [string, string][] = [] // of the patch, each with its JSON as a text, so that numbers keep their digits
  const put = (name: string, value: unknown) => parts.push([name, JSON.stringify(value)])
  if (now.priority !== before.priority) put('priority', now.priority === '' ? null : Number(now.priority))
  for (const name of ['queue', 'owner', 'lane'] as const) if (now[name] !== before[name]) put(name, now[name] || null)
  const startAt = now.run_at ? timeIn(now.run_at) : null
  if (now.run_at !== before.run_at && startAt !== undefined) put('run_at', now.run_at ? new Date(now.run_at).toISOString() : null)
  const { labels, wrong: wrongLabel } = labelsIn(now.labels, j.labels)
  if (now.labels !== before.labels) put('labels', labels)
  const edited = now.payload !== before.payload
  const invalid = edited ? problemOf(now.payload) : undefined
  const wrong =
    wrongLabel ??
    (startAt === undefined ? 'The start is not a valid time.' : undefined) ??
    (invalid && `The payload is not valid JSON: ${invalid}`)
  if (edited && !wrong) parts.push(['payload', now.payload])
  const words = parts.map(([name, value]) => ` ${quoted(`${name}=${value.replace(/\n\s*/g, '')}`)}`).join('')
  const field = (name: 'priority' | 'queue' | 'owner' | 'lane' | 'run_at', label: string, hint: string, type = 'text') => (
    <label className="contents">
      <span className="text-quiet">{label}</span>
      <input className="field" name={name} type={type} value={now[name]} onChange={(e) => set({ ...now, [name]: e.target.value })} />
      <span className="text-[13px] text-quiet">{hint}</span>
    </label>
  )
  return (
    <Asking
      close={close}
      title={`Edit job ${j.id}`}
      follows={over ? '1 job gets other labels or another payload; it does not run again.' : '1 job is changed where it waits.'}
      confirm="Change 1 job"
      command={`hmule job edit ${j.id}${words}`}
      blocked={parts.length === 0 || !!wrong}
      done={() => ({ text: `Job ${j.id} was changed.` })}
      send={() =>
        told(
          api.PATCH('/v1/jobs/{id}', {
            params: { path: { id: j.id }, header: { 'If-Match': `"${j.version}"`, 'Idempotency-Key': newKey() } },
            headers: { 'Content-Type': 'application/merge-patch+json' },
            body: {} as never,
            bodySerializer: () => `{${parts.map(([name, value]) => `"${name}":${value}`).join(',')}}`,
          }),
        )
      }
    >
      {!over && (
        <div className="mb-3 grid grid-cols-[max-content_13rem_minmax(0,1fr)] items-baseline gap-x-4 gap-y-1.5">
          {field('priority', 'priority', '0 to 9, the higher first', 'number')}
          {field('queue', 'queue', 'where it waits')}
          {field('owner', 'owner', 'whose job it is')}
          {field('lane', 'lane', 'one job of a lane runs at a time')}
          {j.state !== 'backoff' && field('run_at', 'start at', 'not before, in your time zone', 'datetime-local')}
        </div>
      )}
      <label className="block">
        <span className="text-quiet">Labels, one a line: name = value</span>
        <textarea
          className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]"
          name="labels"
          rows={Math.max(2, now.labels.split('\n').length)}
          spellCheck={false}
          value={now.labels}
          onChange={(e) => set({ ...now, labels: e.target.value })}
        />
      </label>
      <label className="mt-3 block">
        <span className="text-quiet">Payload</span>
        <textarea
          className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]"
          name="payload"
          rows={Math.min(12, before.payload.split('\n').length + 1)}
          spellCheck={false}
          value={now.payload}
          onChange={(e) => set({ ...now, payload: e.target.value })}
        />
      </label>
      {wrong && <p role="alert">{wrong}</p>}
      {edited && !wrong && <Difference name="What you change" before={j.payload ?? null} after={exact(now.payload)} />}
    </Asking>
  )
}
