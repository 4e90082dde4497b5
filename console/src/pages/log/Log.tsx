import { Link } from 'react-router'

import { useActions, useOperations } from '../../api/client'
import { age, moment } from '../../lib/format'
import { underWay } from '../../lib/acts'
import { Operations } from '../../parts/Operations'
import { useTitle } from '../../lib/title'
import { useNow } from '../../lib/useNow'
import { Export, Heading } from '../../parts/Heading'

/** Log answers: who did what, and when. */
export function Log() {
  const { data, error } = useActions()
  const now = useNow(1000)
  useTitle('Action log')
  return (
    <section aria-label="Action log" className="mt-4">
      <Heading title="Action log" list="/v1/actions" empty={!data?.length}>
        {error
          ? `The log could not be read: ${error.message}.`
          : data?.length === 0
            ? 'No operator has done anything yet.'
            : 'What operators did, the latest first. Actions are kept for a year.'}
      </Heading>
      <OnMany now={now} />
      <ul>
        {data?.map((a) => (
          <li key={a.id} className="flex min-h-[32px] items-baseline gap-x-5 border-b border-hairline py-1.5">
            <span className="min-w-0 flex-1 break-words" title={JSON.stringify(a.detail)}>
              <bdi>{a.summary}</bdi>
              {!!a.job && (
                <>
                  {' '}
                  <Link className="press" to={`/jobs/${a.job}`}>
                    Open job {a.job}
                  </Link>
                </>
              )}
            </span>
            <time className="shrink-0 text-right text-quiet" dateTime={a.at} title={age(a.at, now)}>
              {moment(a.at)}
            </time>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** How many of the latest acts on many jobs are shown, besides those that are under way. */
const latest = 5

/** OnMany lists what is done to many jobs, and what was done lately, and can be stopped or undone. */
function OnMany({ now }: { now: number }) {
  const { data } = useOperations()
  const shown = data?.filter((o, i) => underWay(o) || i < latest) ?? []
  if (shown.length === 0) return null
  return (
    <section aria-label="On many jobs" className="pt-2 pb-4">
      <div className="flex items-end border-b border-hairline pb-1">
        <h3 className="flex-1 font-semibold">
          On many jobs<span className="font-normal text-quiet">, under way and lately</span>
        </h3>
        <Export list="/v1/operations" what="actions on many jobs" />
      </div>
      <Operations all={shown} now={now} />
    </section>
  )
}
