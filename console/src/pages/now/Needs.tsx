import { Link } from 'react-router'

import type { Fact, State } from '../../api/client'
import { factPath } from '../../lib/facts'
import { localTimes } from '../../lib/format'
import { Mark } from '../../parts/Mark'

/** Which mark stands before a fact. */
const signs: Partial<Record<Fact['kind'], State>> = {
  no_worker: 'ready',
  paused: 'held',
  behind: 'backoff',
  new_cause: 'dead',
  stuck: 'held',
  silent: 'held',
  hook: 'dead',
  endpoint: 'held',
  schedule: 'dead',
  dead: 'dead',
  operation: 'running',
  fine: 'done',
}

const most = 5

/** Needs lists what needs somebody, the worst first, each with what to do about it. */
export function Needs({ facts }: { facts?: Fact[] }) {
  const alerts = facts?.find((f) => f.kind === 'alerts')
  const wrong = facts?.filter((f) => f.wrong && f !== alerts) ?? []
  const rest = facts?.filter((f) => !f.wrong && f.kind !== 'fine' && f !== alerts) ?? []
  const shown = [...wrong, ...rest].slice(0, most)
  return (
    <section aria-label="What needs somebody" className="min-w-0 max-xl:order-first xl:min-h-[232px]">
      <h2 className="flex items-baseline gap-2 border-b border-hairline pb-1">
        <span className="font-semibold whitespace-nowrap">{wrong.length > 0 ? 'Needs somebody' : 'Nobody is needed'}</span>
        {wrong.length > 1 && <span className="whitespace-nowrap text-quiet">worst first</span>}
        {alerts && (
          <Link className="press ml-auto whitespace-nowrap" to="/alerts" title={alerts.text}>
            {alerts.number === 1 ? '1 alert' : `${alerts.number} alerts`} open
          </Link>
        )}
      </h2>
      <ul>
        {shown.map((f, i) => (
          <Row key={f.kind + i} f={f} />
        ))}
      </ul>
    </section>
  )
}

function Row({ f }: { f: Fact }) {
  const to = factPath(f)
  const sign = signs[f.kind]
  return (
    <li className="flex items-start gap-2.5 border-b border-hairline py-1.5" data-fact={f.kind}>
      <span className="flex h-[20px] w-[12px] shrink-0 items-center">{sign && <Mark state={sign} />}</span>
      <div className="min-w-0 flex-1">
        <p className={`line-clamp-2 break-words ${f.wrong ? 'font-semibold' : ''}`} title={localTimes(f.text)}>
          {localTimes(f.text)}
        </p>
        {f.detail && (
          <p className="truncate text-[13px] text-quiet" title={localTimes(f.detail)}>
            {localTimes(f.detail)}
          </p>
        )}
      </div>
      {to && f.act && (
        <Link className="button shrink-0" to={to}>
          {f.act}
        </Link>
      )}
    </li>
  )
}
