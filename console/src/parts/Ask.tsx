import { useState } from 'react'

import { newKey } from '../api/access'
import { type Job, api, exact, told } from '../api/client'
import { Difference } from './Difference'
import { pretty } from '../lib/format'
import { problemOf } from '../lib/json'
import { quoted } from '../lib/shell'
import { Question } from './Question'

export type Deed = 'requeue' | 'cancel' | 'start' | 'accept' | 'end' | 'discard'

const verbs = {
  requeue: 'Requeue',
  cancel: 'Cancel',
  start: 'Start',
  accept: 'Accept',
  end: 'End the lease of',
  discard: 'Discard',
} as const
const commands = { requeue: 'requeue', cancel: 'cancel', start: 'start', accept: 'accept', end: 'end-lease', discard: 'discard' } as const

/** Ask is an action on one job. */
export function Ask({ deed, j }: { deed: Deed; j: Job }) {
  const before = pretty(j.payload ?? null)
  const [entered, setText] = useState<string>()
  const [followUps, setFollowUps] = useState(() => pretty(j.refused?.enqueue ?? []))
  const text = entered ?? before
  const edited = deed === 'requeue' && text !== before
  const wrong = edited ? problemOf(text) : undefined
  const payload = edited && !wrong ? ` --payload ${quoted(compact(text))}` : ''
  return (
    <Question
      title={`${verbs[deed]} job ${j.id}`}
      follows={follows(deed, j)}
      confirm={`${verbs[deed]} 1 job`}
      command={`hmule job ${commands[deed]} ${j.id}${payload}${deed === 'accept' && followUps.trim() !== '[]' ? ` --enqueue ${quoted(compact(followUps))}` : ''}`}
      send={() => send(deed, j.id, deed === 'accept' ? followUps : edited ? text : undefined)}
      done={deed === 'discard' ? () => ({ text: `Job ${j.id} was discarded; hmule job undiscard ${j.id} brings it back.` }) : undefined}
      blocked={!!wrong || (deed === 'accept' && !!problemOf(followUps))}
    >
      {deed === 'accept' && (
        <label className="block">
          <span className="text-quiet">Its follow-ups, a list of specs, which you may change first; [] enqueues none</span>
          <textarea
            className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]"
            rows={Math.min(12, followUps.split('\n').length + 1)}
            spellCheck={false}
            value={followUps}
            onChange={(e) => setFollowUps(e.target.value)}
          />
        </label>
      )}
      {deed === 'accept' && problemOf(followUps) && <p role="alert">The follow-ups are not valid JSON: {problemOf(followUps)}</p>}
      {deed === 'requeue' && (
        <label className="block">
          <span className="text-quiet">Payload, which you may change first</span>
          <textarea
            className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]"
            rows={Math.min(12, before.split('\n').length + 1)}
            spellCheck={false}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </label>
      )}
      {wrong && <p role="alert">The payload is not valid JSON: {wrong}</p>}
      {edited && !wrong && <Difference name="What you change" before={j.payload ?? null} after={exact(text)} />}
    </Question>
  )
}

function follows(deed: Deed, j: Job): string {
  if (deed === 'accept')
    return '1 job becomes done with what its handler brought, without running again. Its follow-ups are enqueued as they stand here.'
  if (deed === 'discard') return '1 job leaves every list and count at once. It can be brought back for 10 minutes; then it is gone.'
  if (deed === 'end')
    return `1 job is placed again with its rank, and the attempt is not counted. Its handler may still be running: its word no longer counts, but what it does is done.${j.lane ? ` Because of its lane the job waits until the lease would have ended.` : ''}`
  if (deed === 'requeue') {
    if (j.reason === 'outcome_refused')
      return `The work of this job was done already, and only its follow-ups were refused: a requeue does it again. Accept it instead where that must not be.`
    const kept = j.attempt === 0 ? '' : j.attempt === 1 ? ' Its 1 attempt stays on record.' : ` Its ${j.attempt} attempts stay on record.`
    return `1 job begins round ${j.round + 1}: it becomes ready in queue ${j.queue}, with all ${j.max_attempts || ''} tries before it.${kept} It can be cancelled again while it is not done.`
  }
  if (deed === 'start' && j.state === 'held') {
    const n = j.waits_for?.unmet ?? 0
    const without = j.batch?.last
      ? 'the other jobs of its batch'
      : n === 1
        ? 'the 1 job that it waits for'
        : `the ${n} jobs that it waits for`
    return `1 job goes on without ${without}: it becomes ready in queue ${j.queue}. It is not handed their results. This cannot be taken back, but the job can be cancelled.`
  }
  if (deed === 'start') {
    const instead =
      j.state === 'backoff'
        ? `its try ${j.tries + 1} begins as soon as a worker takes it, instead of waiting for its backoff`
        : 'it begins as soon as a worker takes it, instead of waiting for its time'
    return `1 job becomes ready in queue ${j.queue}: ${instead}. This cannot be taken back, but the job can be cancelled.`
  }
  if (j.state === 'running')
    return '1 job is asked to end, within a second. Its handler may still finish it as done; anything else makes it cancelled. What the handler has done already is not undone.'
  return '1 job is cancelled: it will not run. It can be requeued later.'
}

function compact(text: string): string {
  return text.replace(/\n\s*/g, '')
}

/** send does the deed. An edited payload goes as the text it is, so that its numbers keep their digits. */
function send(deed: Deed, id: number, payload?: string): Promise<unknown> {
  const params = { path: { id }, header: { 'Idempotency-Key': newKey() } }
  if (deed === 'start') return told(api.POST('/v1/jobs/{id}/start_now', { params, body: {} }))
  if (deed === 'discard') return told(api.POST('/v1/jobs/{id}/discard', { params, body: {} }))
  if (deed === 'cancel') return told(api.POST('/v1/jobs/{id}/cancel', { params, body: {} }))
  if (deed === 'end') return told(api.POST('/v1/jobs/{id}/end_lease', { params, body: {} }))
  if (deed === 'accept') return told(api.POST('/v1/jobs/{id}/accept', { params, body: {}, bodySerializer: () => `{"enqueue":${payload}}` }))
  return told(
    api.POST('/v1/jobs/{id}/requeue', {
      params,
      body: {},
      bodySerializer: () => (payload === undefined ? '{}' : `{"payload":${payload}}`),
    }),
  )
}
