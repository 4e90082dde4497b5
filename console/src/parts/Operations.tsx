import { useMutation } from '@tanstack/react-query'

import { newKey } from '../api/access'
import { type Operation, type State, api, queryClient, told, useMayAct } from '../api/client'
import { underWay } from '../lib/acts'
import { age, grouped } from '../lib/format'

const actionWord = {
  requeue: 'Requeue',
  discard: 'Discard',
  cancel: 'Cancel',
  start_now: 'Start',
  patch: 'Change',
  purge: 'Purge',
} as const
const stateWord = {
  trial: 'trial runs',
  running: 'is under way',
  finished: 'finished',
  stopped: 'stopped',
  undoing: 'is being undone',
  undone: 'undone',
} as const

/** Operations lists acts on many jobs, and stops or undoes them. */
export function Operations({ all, now }: { all: Operation[]; now: number }) {
  const may = useMayAct()
  return (
    <ul>
      {all.map((o) => (
        <li key={o.id} className="border-b border-hairline py-1.5" data-operation={o.id}>
          <p className="flex flex-wrap items-baseline gap-x-4">
            <span>
              {actionWord[o.action]} {stateWord[o.state]}
            </span>
            <span>
              {grouped(o.changed)} of {grouped(o.matched)} jobs
            </span>
            {underWay(o) && <Bar o={o} />}
            <span className="ml-auto text-quiet">
              <bdi>{o.by}</bdi>, {age(o.began_at, now)}
            </span>
          </p>
          {o.why && <p className="font-semibold">{o.why}</p>}
          {o.became && <p className="text-quiet">{becameOf(o.became)}</p>}
          {o.refused_count > 0 && (
            <p className="text-quiet">
              {grouped(o.refused_count)} could not be: {o.refused[0] && `job ${o.refused[0].id} ${o.refused[0].message}`}
            </p>
          )}
          {o.note && (
            <p className="text-quiet">
              <bdi>{o.note}</bdi>
            </p>
          )}
          {may && <Mend o={o} now={now} />}
        </li>
      ))}
    </ul>
  )
}

/** Bar draws how far an operation has come. */
function Bar({ o }: { o: Operation }) {
  const part = Math.min(o.changed / Math.max(o.matched, 1), 1)
  return (
    <svg width="120" height="8" role="img" aria-label={`${Math.round(100 * part)} per cent`} className="shrink-0 self-center">
      <rect x="0.5" y="0.5" width="119" height="7" rx="1" fill="none" className="stroke-running" />
      <rect x="1" y="1" width={118 * part} height="6" className="fill-running" />
    </svg>
  )
}

/** becameOf says what became of the jobs that were requeued. */
function becameOf(became: Partial<Record<State, number>>): string {
  const of = (...states: State[]) => states.reduce((n, s) => n + (became[s] ?? 0), 0)
  const parts = [
    [of('done'), 'done'],
    [of('dead'), 'dead again'],
    [of('skipped', 'cancelled'), 'skipped or cancelled'],
    [of('held', 'scheduled', 'ready', 'running', 'backoff'), 'under way'],
  ] as const
  return parts
    .filter(([n]) => n > 0)
    .map(([n, what]) => `${grouped(n)} ${what}`)
    .join(' · ')
}

/** Mend stops an operation that is under way, or undoes a removal while that is possible. */
function Mend({ o, now }: { o: Operation; now: number }) {
  const over = o.state === 'finished' || o.state === 'stopped'
  const removes = o.action === 'discard' || o.action === 'purge'
  const undoable = removes && over && o.changed > 0 && o.undo_until && Date.parse(o.undo_until) > now
  const params = { path: { id: o.id }, header: { 'Idempotency-Key': newKey() } }
  const act = useMutation({
    mutationFn: () => told(undoable ? api.POST('/v1/operations/{id}/undo', { params }) : api.POST('/v1/operations/{id}/stop', { params })),
    networkMode: 'always',
    onSuccess: () => queryClient.invalidateQueries(),
  })
  if (!undoable && o.state !== 'trial' && o.state !== 'running') return null
  return (
    <p>
      <button type="button" className="press" disabled={act.isPending} onClick={() => act.mutate()}>
        {undoable ? `Bring back ${grouped(o.changed)} ${o.changed === 1 ? 'job' : 'jobs'}` : 'Stop it'}
      </button>
      {undoable && <span className="text-quiet"> possible {age(o.undo_until!, now).replace(/^in /, 'for ')}</span>}
      {act.error && <span role="alert"> {act.error.message}</span>}
    </p>
  )
}
