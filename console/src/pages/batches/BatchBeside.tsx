import { useState } from 'react'
import { Link } from 'react-router'

import { type Batch, Refusal, type State, useMayAct } from '../../api/client'
import type { Action } from '../../lib/acts'
import { search } from '../../lib/address'
import { grouped, localTimes } from '../../lib/format'
import { states } from '../../lib/words'
import { ActOnMany } from '../../parts/Act'
import { Beside, Fact, When } from '../../parts/Beside'
import { BatchWord } from './BatchWord'
import { Graph } from './Graph'
import { useBatch, useBatchGraph } from './queries'
import { Share } from './Share'

/** BatchBeside tells how a batch stands, what it waits for, and lays its jobs in levels. */
export function BatchBeside({ id, now }: { id: number; now: number }) {
  const { data: b, error } = useBatch(id)
  return (
    <Beside title={b?.name || `Batch ${id}`} beside={b && <BatchWord state={b.state} />} back="/batches">
      {!b && error && (
        <p className="py-4">
          {error instanceof Refusal && error.status === 404
            ? `There is no batch ${id}; it may no longer be kept.`
            : `Batch ${id} could not be read: ${error.message}.`}
        </p>
      )}
      {!b && !error && <p className="py-4 text-quiet">Reading the batch …</p>}
      {b && <Known b={b} now={now} />}
    </Beside>
  )
}

function Known({ b, now }: { b: Batch; now: number }) {
  const { data: graph, isPending } = useBatchGraph(b.id)
  if (isPending) return <p className="py-4 text-quiet">Reading its jobs …</p>
  return (
    <>
      <p className="max-w-[65ch] py-3 text-base">{localTimes(b.summary ?? '')}</p>
      <div className="pt-2 pb-4">
        <Share counts={b.counts} jobs={b.jobs} />
      </div>
      <Deeds b={b} />
      {graph && graph.nodes.length > 0 && <Graph of={graph} batch={b.id} />}
      <dl className="mt-6 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="jobs">
          <Link className="press" to={'/jobs' + search({ batch: String(b.id) })}>
            {grouped(b.jobs)}
          </Link>
          , {grouped(b.finished)} ended
        </Fact>
        {states
          .filter((s) => b.counts[s])
          .map((s) => (
            <Fact key={s} name={s}>
              <Link className="press" to={'/jobs' + search({ batch: String(b.id), state: s })}>
                {grouped(b.counts[s]!)}
              </Link>
              {s === 'skipped' && !!b.too_late && `, ${grouped(b.too_late)} too late`}
            </Fact>
          ))}
        <Fact name="last job">
          {b.last && (
            <Link className="press font-mono text-[13px]" to={`/jobs/${b.last}`}>
              {b.last}
            </Link>
          )}
        </Fact>
        <Fact name="work">{b.percent_of_work !== undefined && `${b.percent_of_work} % done, by usual run times`}</Fact>
        <When name="expected end" at={b.expected_end} now={now} />
        <Fact name="no longer kept">{b.gone && grouped(b.gone)}</Fact>
        <Fact name="owner">{b.owner}</Fact>
        <Fact name="labels">
          {b.labels &&
            Object.entries(b.labels)
              .map(([name, value]) => `${name} ${value}`)
              .join(', ')}
        </Fact>
        <When name="made" at={b.made_at} now={now} />
        <Fact name="by">{b.made_by}</Fact>
        <When name="ended" at={b.finished_at} now={now} />
      </dl>
    </>
  )
}

/** What each act is for. */
const acts: { action: Action; text: (n: string) => string; of: State[] }[] = [
  { action: 'requeue', text: (n) => `Requeue ${n} dead`, of: ['dead'] },
  { action: 'discard', text: (n) => `Discard ${n} dead`, of: ['dead'] },
  { action: 'patch', text: (n) => `Change ${n} waiting`, of: ['held', 'scheduled', 'ready', 'backoff'] },
  { action: 'cancel', text: (n) => `Cancel ${n} unfinished`, of: ['held', 'scheduled', 'ready', 'backoff', 'running'] },
]

function Deeds({ b }: { b: Batch }) {
  const may = useMayAct()
  const [asked, ask] = useState<Action>()
  if (!may) return null
  const chosen = acts.find((a) => a.action === asked)
  return (
    <p className="flex flex-wrap gap-3">
      {acts.map((a) => {
        const n = a.of.reduce((sum, s) => sum + (b.counts[s] ?? 0), 0)
        return (
          n > 0 && (
            <button key={a.action} type="button" className="button" onClick={() => ask(a.action)}>
              {a.text(grouped(n))}
            </button>
          )
        )
      })}
      {chosen && (
        <ActOnMany
          action={chosen.action}
          target={{ filter: { batch: String(b.id), state: chosen.of.join(',') } }}
          close={() => ask(undefined)}
        />
      )}
    </p>
  )
}
