import { type Span, spans, useHistory, useStats } from '../../api/client'
import { localTimes } from '../../lib/format'
import { intervalOf } from '../../lib/interval'
import { useTitle } from '../../lib/title'
import { useAddress } from '../../lib/useAddress'
import { Way } from '../../parts/Way'
import { ComingStrip } from './ComingStrip'
import { Flow } from './Flow'
import { Needs } from './Needs'
import { QueueStrip } from './QueueStrip'
import { SlotStrip } from './SlotStrip'

/** Now answers: is anything wrong, and are we keeping up? */
export function Now() {
  const stats = useStats()
  const hour = useHistory('hour')
  const [asked, ask] = useAddress('span')
  const [within, askWithin] = useAddress('in')
  const span = intervalOf(within) ?? (asked in spans ? (asked as Span) : 'hour')
  const first = stats.data?.facts[0]
  useTitle(first?.wrong && localTimes(first.text), 'Now')
  return (
    <>
      <section aria-label="How things stand" className="flex min-h-[82px] flex-col justify-center py-2">
        <p
          className={`line-clamp-2 text-2xl leading-tight break-words text-pretty ${first?.wrong ? 'font-semibold' : ''}`}
          aria-live="polite"
        >
          {first
            ? localTimes(first.text)
            : stats.error
              ? `How things stand is not known: ${stats.error.message}.`
              : 'Asking the service how things stand …'}
        </p>
        <p className="truncate text-quiet" title={first?.detail && localTimes(first.detail)}>
          {first?.detail && localTimes(first.detail)}
        </p>
      </section>
      <Way stats={stats.data} />
      <div className="mt-3 grid gap-x-9 gap-y-6 xl:grid-cols-[minmax(0,1fr)_minmax(0,28rem)]">
        <div className="min-w-0 max-xl:contents">
          <Flow
            span={span}
            choose={(s) => {
              ask(typeof s !== 'string' || s === 'hour' ? undefined : s)
              askWithin(typeof s === 'string' ? undefined : s.join('/'))
            }}
          />
          <QueueStrip queues={stats.data?.queues} history={hour.data} />
        </div>
        <div className="min-w-0 max-xl:contents">
          <Needs facts={stats.data?.facts} />
          <SlotStrip />
          <ComingStrip />
        </div>
      </div>
    </>
  )
}
