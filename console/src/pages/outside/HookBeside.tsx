import { Link } from 'react-router'

import { newKey } from '../../api/access'
import { type HookStatus, api, told, useMayAct } from '../../api/client'
import { search } from '../../lib/address'
import { age, grouped, moment } from '../../lib/format'
import { Beside, Fact, When } from '../../parts/Beside'
import { Copyable } from '../../parts/Copyable'
import { Mark } from '../../parts/Mark'
import { Question } from '../../parts/Question'
import { proofWords, reasonWords, setBy, takenWords } from './outsideWords'
import { useDeliveries } from './queries'

/** HookBeside tells what a hook makes of deliveries, which it took, and which it refused. */
export function HookBeside({ name, h, known, now }: { name: string; h?: HookStatus; known: boolean; now: number }) {
  return (
    <Beside title={name} back="/outside">
      {!h && <p className="py-4">{known ? `There is no hook ${name}.` : 'Reading the hook …'}</p>}
      {h && <Known h={h} now={now} />}
    </Beside>
  )
}

function Known({ h, now }: { h: HookStatus; now: number }) {
  const n = h.counts
  return (
    <>
      <p className="py-3 text-base">
        What is posted to <code className="font-mono text-[13px] break-all">{h.path}</code> becomes a job of {h.task}
        {h.queue && ` in queue ${h.queue}`}.
      </p>
      {h.faults?.map((fault) => (
        <p key={fault} role="alert" className="pb-2 font-semibold">
          It refuses every delivery: {fault}.
        </p>
      ))}
      {h.warnings?.map((w) => (
        <p key={w.code} role="note" className="pb-2">
          {w.message}
        </p>
      ))}
      <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1">
        <Fact name="proof of the sender">
          {proofWords(h.proof)}
          {h.proof.secrets && <span className="text-quiet">, by secret {h.proof.secrets.join(' or ')}</span>}
        </Fact>
        <Fact name="id">{takenWords(h.id_from) ?? 'none: each delivery is a job'}</Fact>
        <Fact name="owner">{takenWords(h.owner)}</Fact>
        <Fact name="lane">{takenWords(h.lane)}</Fact>
        <Fact name="priority">{h.priority}</Fact>
        <Fact name="kept headers">{h.keep_headers?.join(', ')}</Fact>
        <Fact name="taken">
          <Link className="press" to={'/jobs' + search({ label: `hook=${h.name}` })}>
            {grouped(n.taken)}
          </Link>
          {n.without_id > 0 && `, ${grouped(n.without_id)} without an id`}
        </Fact>
        <Fact name="came again">
          {n.repeated > 0 && `${grouped(n.repeated)}${n.differing > 0 ? `, ${grouped(n.differing)} with another body` : ''}`}
        </Fact>
        <When name="last taken" at={n.last_at} now={now} />
        <Fact name="note">{h.note}</Fact>
        <Fact name="set by">{setBy[h.defined_by]}</Fact>
      </dl>
      <Refused h={h} now={now} />
      <Taken h={h} now={now} />
      <div className="mt-6 text-quiet">
        To try it, signed as its sender would sign:
        <Copyable command={`hmule hook test ${h.name} body.json`} />
      </div>
    </>
  )
}

const title = 'border-b border-hairline pb-1 font-semibold'
const line = 'flex items-baseline gap-x-4 border-b border-hairline py-1.5'

function Refused({ h, now }: { h: HookStatus; now: number }) {
  const reasons = Object.entries(h.counts.refused ?? {}).sort((a, b) => b[1] - a[1])
  if (reasons.length === 0) return null
  return (
    <section aria-label="Refused deliveries" className="mt-6">
      <h3 className={title}>Refused</h3>
      <ul>
        {reasons.map(([reason, n]) => {
          const last = h.counts.refusals?.find((r) => r.reason === reason)
          return (
            <li key={reason} className={line}>
              <span className="w-16 shrink-0 text-right">{grouped(n)}</span>
              <span className="min-w-0 flex-1">{reasonWords(reason)}</span>
              {last && (
                <span className="text-quiet" title={moment(last.at)}>
                  {last.from && `${last.from}, `}
                  {age(last.at, now)}
                </span>
              )}
            </li>
          )
        })}
      </ul>
    </section>
  )
}

function Taken({ h, now }: { h: HookStatus; now: number }) {
  const { data, error } = useDeliveries(h.name)
  const may = useMayAct()
  return (
    <section aria-label="Taken deliveries" className="mt-6">
      <h3 className={title}>Last deliveries</h3>
      {error && <p className="py-2">The deliveries could not be read: {error.message}.</p>}
      {data?.deliveries.length === 0 && <p className="py-2 text-quiet">Nothing was delivered yet.</p>}
      <ul>
        {data?.deliveries.map((d) => (
          <li key={d.number} className={line} data-delivery={d.number}>
            <span className="w-16 shrink-0 text-quiet" title={moment(d.at)}>
              {age(d.at, now)}
            </span>
            <Link className="press inline-flex shrink-0 items-baseline gap-1.5" to={`/jobs/${d.job}`}>
              {d.state && <Mark state={d.state} />}
              {d.job}
            </Link>
            <span className="min-w-0 flex-1 truncate text-quiet" title={d.id}>
              {d.id}
            </span>
            {d.times > 1 && <span className="shrink-0 text-quiet">{grouped(d.times)} times</span>}
            {may && <Again hook={h.name} number={d.number} job={d.job} />}
          </li>
        ))}
      </ul>
      {data?.next_cursor && <p className="py-2 text-quiet">hmule hook deliveries {h.name} has more.</p>}
    </section>
  )
}

function Again({ hook, number, job }: { hook: string; number: number; job: number }) {
  return (
    <Question
      title="Send again"
      follows={`Another job is made of this delivery, as hook ${hook} is set now. Job ${job} stays as it is; what it did is done a second time.`}
      confirm="Enqueue 1 job"
      command={`hmule hook again ${hook} ${number}`}
      send={() =>
        told(
          api.POST('/v1/hooks/{name}/deliveries/{number}/again', {
            params: { path: { name: hook, number }, header: { 'Idempotency-Key': newKey() } },
            body: {},
          }),
        )
      }
      done={(answer) => {
        const made = (answer as { job: number }).job
        return { text: `Enqueued: job ${made}.`, to: `/jobs/${made}` }
      }}
    />
  )
}
