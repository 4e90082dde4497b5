import type { Queue } from '../api/client'
import { moment } from '../lib/format'

/** Clear tells when no job of a queue waits any more. */
export function Clear({ q, now }: { q: Queue; now: number }) {
  const c = q.pace.clear
  if (q.counts.ready + q.counts.held === 0) return <>now</>
  if (!c) return <span className="text-quiet">–</span>
  if (!c.likely) return <span className="font-semibold text-backoff">never</span>
  const soon = Date.parse(c.likely) - now < 60_000
  return (
    <span title={c.latest ? `Between ${moment(c.earliest ?? c.likely)} and ${moment(c.latest)} in nine cases of ten` : undefined}>
      {soon ? 'now' : moment(c.likely).replace(/:\d\d$/, '')}
    </span>
  )
}
