import { type Job, usePreview } from '../../api/client'
import { grouped, moment, span } from '../../lib/format'
import { useWidth } from '../../lib/useWidth'

const height = 58
const base = 26
const shown = 60 // attempts that the service explains at once

/** Future answers: what will become of this job? It draws the attempts that are left if every one fails, on a logarithmic axis, and when the job would be dead. */
export function Future({ j, now }: { j: Job; now: number }) {
  const { data } = usePreview(j.retry, j.max_attempts)
  const [box, width] = useWidth<HTMLDivElement>()
  const next = j.state === 'running' ? j.tries : j.tries + 1
  const start = j.state === 'running' ? now : Date.parse(j.next_at ?? j.expected_start ?? new Date(now).toISOString())
  const left = data?.attempts.slice(next - 1) ?? []
  const first = left[0]
  if (!data || !first) return null
  const at = left.map((a) => Math.max(start + a.expected_ms - first.expected_ms, now))
  const last = at.at(-1)!
  const ends = data.ends !== 'never' && left.length < shown
  const x = (ms: number) => 6 + (Math.log1p((ms - now) / 1000) / Math.log1p(Math.max(last - now, 1000) / 1000)) * (width - 60)
  const says = ends
    ? `If every attempt fails: ${left.length === 1 ? `try ${next} is the last, ${whenOf(last, now)}` : `${grouped(left.length)} more tries, the last about ${whenOf(last, now)}`}; then it is a dead letter.`
    : `If every attempt fails, it is tried again and again, each time after at most ${span(data.attempts.at(-1)!.expected_ms - (data.attempts.at(-2)?.expected_ms ?? 0))}.`
  return (
    <section aria-label="What will become of it" className="mt-6">
      <h3 className="font-semibold">What will become of it</h3>
      <p>{says}</p>
      <div ref={box} style={{ height }}>
        {width > 0 && left.length > 1 && (
          <svg width={width} height={height} fill="none" role="img" aria-label={says} className="block">
            <path d={`M6 ${base}H${x(last)}`} className="stroke-quiet" strokeDasharray="2 4" />
            <path d={`M6 ${base - 9}v18`} className="stroke-ink" strokeWidth="2" />
            {at.map((t, i) => (
              <rect key={i} x={x(t) - 2.5} y={base - 7} width="5" height="14" rx="1" className="stroke-backoff" strokeDasharray="2 2">
                <title>{`try ${next + i}, ${whenOf(t, now)}`}</title>
              </rect>
            ))}
            {ends && (
              <>
                <path d={`M${x(last) + 8} ${base - 5}h9l-4.5 8z`} className="fill-dead" />
                <text x={x(last) + 21} y={base + 4} fontSize="12" className="fill-ink">
                  dead
                </text>
              </>
            )}
            <text x="0" y={height - 12} fontSize="12" className="fill-quiet">
              now
            </text>
            <text x={x(last)} y={height - 12} fontSize="12" textAnchor="end" className="fill-quiet">
              {span(last - now)}
            </text>
          </svg>
        )}
      </div>
    </section>
  )
}

/** whenOf says when something comes: by the clock, and how long it is until then. */
function whenOf(ms: number, now: number): string {
  return ms - now < 1000 ? 'now' : `at ${moment(new Date(ms).toISOString())} (in ${span(ms - now)})`
}
