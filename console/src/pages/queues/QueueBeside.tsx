import { useState } from 'react'
import { Link } from 'react-router'

import { search, useFilter } from '../../lib/address'
import { newKey } from '../../api/access'
import { type Defaults, type Queue, type Start, api, told, useMayAct, useStarts } from '../../api/client'
import { Backoff } from '../../parts/Backoff'
import { Beside, FromFile, fromFile } from '../../parts/Beside'
import { type Entered, entered, read } from '../../parts/defaults'
import { DefaultsForm } from '../../parts/DefaultsForm'
import { clock, grouped, span } from '../../lib/format'
import { startWords } from '../../lib/pace'
import { useUnsaved } from '../../lib/unsaved'
import { quoted } from '../../lib/shell'
import { Question } from '../../parts/Question'
import { type EnteredRules, enteredRules, follows, readRules } from './rules'
import { Lanes } from './Lanes'
import { Outlook } from './Outlook'
import { Purge } from './Purge'
import { RulesForm } from './RulesForm'

/** QueueBeside shows in what order a queue's jobs start, and sets its order, limits and defaults. */
export function QueueBeside({ name, q, known }: { name: string; q?: Queue; known: boolean }) {
  const filter = useFilter()
  return (
    <Beside title={name} back={'/queues' + search(filter)}>
      {!q && (
        <p className="py-4">
          {known ? 'There is no such queue; one exists from its first job, or from its first settings.' : 'Reading the queue …'}
        </p>
      )}
      {q && <p className="pt-3">{startWords(q)}</p>}
      {q && <Acts q={q} />}
      {q && <Outlook name={name} />}
      {q && (
        <Link className="press" to={`/compare?of=queue:${encodeURIComponent(name)}`}>
          Did my change help?
        </Link>
      )}
      {q && <Form key={JSON.stringify(q.defaults ?? {})} q={q} />}
      {q && <Lanes queue={name} />}
      {q && <Starts name={name} />}
    </Beside>
  )
}

function Acts({ q }: { q: Queue }) {
  if (!useMayAct()) return null
  return (
    <div className="flex flex-wrap gap-3 pt-4">
      <Pause q={q} />
      <Purge q={q} />
    </div>
  )
}

function Form({ q }: { q: Queue }) {
  const may = useMayAct()
  const [before, beforeRules] = [entered(q.defaults), enteredRules(q.defaults)]
  const [now, set] = useState<Entered>(before)
  const [rules, setRules] = useState<EnteredRules>(beforeRules)
  const [a, b] = [read(now), readRules(rules)]
  const settings: Defaults = { ...a.defaults, ...b.rules, keep: q.defaults?.keep }
  const changed = JSON.stringify([now, rules]) !== JSON.stringify([before, beforeRules])
  useUnsaved(changed)
  const blocked = Object.keys(a.wrong).length + Object.keys(b.wrong).length > 0
  return (
    <>
      {q.from_file && <FromFile />}
      <h3 className="pt-6 pb-2 font-semibold">Order and limits</h3>
      <RulesForm value={rules} set={setRules} wrong={b.wrong} fixed={!may} />
      <h3 className="pt-5 pb-2 font-semibold">
        Defaults<span className="font-normal text-quiet">, where neither a job nor its task says otherwise</span>
      </h3>
      <DefaultsForm value={now} set={set} wrong={a.wrong} fixed={!may} />
      {may && (
        <div className="mt-4 flex items-baseline gap-4">
          {changed ? (
            <Save q={q} settings={settings} blocked={blocked} />
          ) : (
            <span className="text-quiet">Change a field to see what follows, and to save it.</span>
          )}
          {changed && (
            <button
              type="button"
              className="press"
              onClick={() => {
                set(before)
                setRules(beforeRules)
              }}
            >
              As it was
            </button>
          )}
        </div>
      )}
      {changed && (a.defaults.retry ?? a.defaults.max_attempts) !== undefined && (
        <Backoff retry={a.defaults.retry} maxAttempts={a.defaults.max_attempts} />
      )}
    </>
  )
}

function Save({ q, settings, blocked }: { q: Queue; settings: Defaults; blocked: boolean }) {
  return (
    <Question
      title={`Set queue ${q.name}`}
      follows={`${follows(q, settings)}${q.from_file ? ' ' + fromFile : ''}`}
      confirm="Set 1 queue"
      command={`hmule queue set ${q.name} --replace ${quoted(JSON.stringify(settings))}`}
      send={() =>
        told(
          api.PUT('/v1/queues/{name}', {
            params: { path: { name: q.name }, header: { 'If-Match': `"${q.version}"`, 'Idempotency-Key': newKey() } },
            body: settings,
          }),
        )
      }
      blocked={blocked}
    />
  )
}

/** Pause pauses a queue, or lets it go on. */
export function Pause({ q }: { q: Queue }) {
  const verb = q.paused ? 'resume' : 'pause'
  const ready = q.counts.ready === 1 ? '1 job is ready there' : `${grouped(q.counts.ready)} jobs are ready there`
  const says = q.paused
    ? `1 queue is leased from again; ${ready}.`
    : `Nothing of 1 queue starts any more; ${ready}. Jobs that run go on, times go on, and jobs are taken in. It can be resumed at any time.`
  const init = { params: { path: { name: q.name }, header: { 'Idempotency-Key': newKey() } }, body: {} }
  return (
    <Question
      title={q.paused ? `Resume queue ${q.name}` : `Pause queue ${q.name}`}
      follows={says}
      confirm={q.paused ? 'Resume 1 queue' : 'Pause 1 queue'}
      command={`hmule queue ${verb} ${q.name}`}
      send={() => told(q.paused ? api.POST('/v1/queues/{name}/resume', init) : api.POST('/v1/queues/{name}/pause', init))}
    />
  )
}

/** shown is how many of those that a job overtook are named. */
const shown = 2

/** few is how many starts are shown at first. */
const few = 10

/** Starts tells in what order jobs were started, the latest first, and what each overtook. */
function Starts({ name }: { name: string }) {
  const [most, setMost] = useState(few)
  const { data, error } = useStarts(name, most)
  return (
    <section aria-label="In what order jobs started" className="mt-3">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        In what order jobs started<span className="font-normal text-quiet">, latest first</span>
      </h3>
      {error && <p role="alert">{error.message}</p>}
      {data?.length === 0 && <p className="py-2">No job has started yet.</p>}
      {data && data.length > 0 && (
        <table className="w-full border-collapse">
          <thead className="text-left text-[13px] text-quiet">
            <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>th]:pr-3 [&>th]:font-normal">
              <th>at</th>
              <th className="text-right">job</th>
              <th className="text-right max-sm:hidden">priority</th>
              <th className="w-full min-w-28">owner, lane, or task</th>
              <th className="text-right">waited</th>
              <th>overtook</th>
            </tr>
          </thead>
          <tbody>
            {data.map((s) => (
              <Row key={`${s.job} ${s.started_at}`} s={s} />
            ))}
          </tbody>
        </table>
      )}
      {data?.length === few && most === few && (
        <button type="button" className="press py-2" onClick={() => setMost(200)}>
          Show more
        </button>
      )}
    </section>
  )
}

function Row({ s }: { s: Start }) {
  const job = (id: number) => (
    <Link key={id} className="press font-mono text-[13px]" to={`/jobs/${id}`}>
      {id}
    </Link>
  )
  return (
    <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>td]:pr-3">
      <td className="text-quiet">{clock(new Date(s.started_at))}</td>
      <td className="text-right">{job(s.job)}</td>
      <td className="text-right max-sm:hidden">{s.priority}</td>
      <td className="max-w-28 truncate" title={s.task}>
        {[s.owner, s.lane].filter(Boolean).join(', ') || <span className="text-quiet">{s.task}</span>}
      </td>
      <td className="text-right">{span(s.waited_ms)}</td>
      <td>
        {s.overtook > 0 && (
          <>
            {grouped(s.overtook)}: {s.first?.slice(0, shown).flatMap((id, n) => [n > 0 ? ', ' : '', job(id)])}
            {s.overtook > shown && ' …'}
          </>
        )}
      </td>
    </tr>
  )
}
