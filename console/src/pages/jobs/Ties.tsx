import { Link } from 'react-router'

import type { Cause, Edges, Job } from '../../api/client'
import { grouped } from '../../lib/format'
import { StateWord } from '../../parts/Mark'

const isWord = { unmet: 'waited for', met: 'met', dropped: 'let go without it' } as const

/** What becomes of a job that waits where this one dies. */
const fateWord = { held: 'stays held if this dies', cancelled: 'is cancelled if this dies', goes_on: 'goes on if this dies' } as const

/** Ties lists the jobs that one waits for, and those that wait for it. */
export function Ties({ j }: { j: Job }) {
  return (
    <>
      <Side name="Waits for" of={j.waits_for} fate={fateOf(j)} />
      <Side name="Awaited by" of={j.awaited_by} />
    </>
  )
}

/** Awaiting lists the jobs that wait for dead ones of a cause. */
export function Awaiting({ c }: { c: Cause }) {
  return <Side name="Waiting for these" of={c.awaited_by} fate="requeued and done, these let them go on" />
}

function Side({ name, of, fate }: { name: string; of?: Edges; fate?: string }) {
  if (!of || of.total === 0) return null
  return (
    <section aria-label={name} className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        {name}
        <span className="font-normal text-quiet">
          {' '}
          {grouped(of.total)} {of.total === 1 ? 'job' : 'jobs'}
          {of.unmet > 0 && of.unmet < of.total && `, ${grouped(of.unmet)} not met yet`}
          {fate && `; ${fate}`}
        </span>
      </h3>
      <ul>
        {of.first.map((e) => (
          <li key={e.job} className="flex min-h-[32px] flex-wrap items-center gap-x-4 border-b border-hairline py-1" data-tie={e.job}>
            <Link className="press font-mono text-[13px]" to={`/jobs/${e.job}`}>
              {e.job}
            </Link>
            <span className="w-24">{e.state ? <StateWord state={e.state} /> : <span className="text-quiet">not kept</span>}</span>
            <span className="min-w-0 flex-1 truncate">
              {e.task} {e.ref && <span className="text-quiet">{e.ref}</span>}
            </span>
            {e.is && <span className={e.is === 'unmet' ? '' : 'text-quiet'}>{e.fate ? fateWord[e.fate] : isWord[e.is]}</span>}
          </li>
        ))}
      </ul>
      {of.total > of.first.length && <p className="py-2 text-quiet">and {grouped(of.total - of.first.length)} more</p>}
    </section>
  )
}
/** fateOf says what becomes of a job where one that it waits for does not end as it asks. */
function fateOf(j: Job): string | undefined {
  if (!j.waits_for || j.waits_for.unmet === 0) return undefined
  if (j.waits_for.when === 'finished') return 'it goes on however they end'
  return j.waits_for.if_not === 'cancel' ? 'if one ends otherwise, it is cancelled' : 'if one ends otherwise, it waits until somebody acts'
}
