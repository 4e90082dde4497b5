import { Link } from 'react-router'

import { path, search, useFilter } from './address'
import type { Stats } from './api/client'
import { localTimes } from './format'

/** Sentence says how things stand; every number in it leads to the jobs it counts. */
export function Sentence({ stats, error }: { stats?: Stats; error: Error | null }) {
  const { queue } = useFilter()
  if (!stats) {
    return (
      <p className="py-6 text-xl text-quiet">
        {error ? `How things stand is not known: ${error.message}.` : 'Asking the service how things stand …'}
      </p>
    )
  }
  return (
    <section aria-label="How things stand" className="max-w-[80ch] py-6 text-xl leading-relaxed text-pretty">
      <p>
        {stats.facts.map((s, i) => (
          <span key={i} className={s.wrong ? 'font-semibold' : ''}>
            {s.state ? (
              <Link
                className="decoration-quiet decoration-1 underline-offset-4 hover:underline"
                to={
                  s.state === 'dead'
                    ? (s.cause ? `/dead/${s.cause}` : '/dead') + search({ queue: s.queue ?? queue })
                    : path({ queue: s.queue ?? queue, state: s.state, task: s.task })
                }
              >
                {localTimes(s.text)}
              </Link>
            ) : (
              localTimes(s.text)
            )}{' '}
          </span>
        ))}
      </p>
    </section>
  )
}
