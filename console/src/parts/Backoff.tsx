import { type Preview, type Retry, usePreview } from '../api/client'
import { span } from '../lib/format'
import { useSettled } from '../lib/useSettled'

const width = 460
const row = 15
const left = 66

/** Backoff draws when each attempt would come, on a logarithmic axis, jitter as the width of each mark. */
export function Backoff({ retry, maxAttempts }: { retry?: Retry; maxAttempts?: number }) {
  const { retry: r, maxAttempts: m } = useSettled(
    JSON.stringify({ retry, maxAttempts }),
    250,
    (text) => JSON.parse(text) as { retry?: Retry; maxAttempts?: number },
  )
  const { data, error } = usePreview(r, m)
  return (
    <section aria-label="When attempts come" className="mt-6">
      <h3 className="font-semibold">
        When attempts come<span className="font-normal text-quiet">, from the start of the first one, if attempts take no time</span>
      </h3>
      {error && <p role="alert">{error.message}</p>}
      {!error && data && (
        <>
          <p className="pb-2">{data.summary}</p>
          {data.warnings?.map((w) => (
            <p key={w.code} role="status" className="pb-2 font-semibold">
              {w.message}
            </p>
          ))}
          <Drawing p={data} />
        </>
      )}
    </section>
  )
}

/** decades are the moments that the axis names. */
const decades = [1_000, 10_000, 60_000, 600_000, 3_600_000, 6 * 3_600_000, 86_400_000, 7 * 86_400_000, 30 * 86_400_000]

function Drawing({ p }: { p: Preview }) {
  const later = p.attempts.slice(1)
  if (later.length === 0) return null
  const from = Math.max(Math.min(...later.map((a) => a.earliest_ms)) * 0.8, 1)
  const to = Math.max(...later.map((a) => a.latest_ms)) * 1.15
  const x = (ms: number) => left + (Math.log(Math.max(ms, from) / from) / Math.log(to / from)) * (width - left - 8)
  const height = later.length * row + 24
  const ticks = decades.filter((d) => d >= from && d <= to).filter((d, i, all) => i === 0 || x(d) - x(all[i - 1]!) > 34)
  return (
    <svg viewBox={`0 0 ${width} ${height}`} width={width} className="max-w-full" role="img" aria-label={p.summary}>
      {ticks.map((d) => (
        <g key={d}>
          <path d={`M${x(d)} 0V${height - 16}`} className="stroke-hairline" />
          <text x={x(d)} y={height - 4} fontSize="11" textAnchor="middle" className="fill-quiet">
            {span(d)}
          </text>
        </g>
      ))}
      {later.map((a, i) => {
        const y = i * row + row / 2
        return (
          <g key={a.attempt}>
            <title>{`attempt ${a.attempt}: ${span(a.earliest_ms)} to ${span(a.latest_ms)}`}</title>
            <text x={left - 10} y={y + 4} fontSize="11" textAnchor="end" className="fill-quiet">
              {a.attempt === later[0]!.attempt ? `attempt ${a.attempt}` : a.attempt}
            </text>
            <rect
              x={x(a.earliest_ms)}
              y={y - 2.5}
              width={Math.max(x(a.latest_ms) - x(a.earliest_ms), 1)}
              height="5"
              rx="2.5"
              className="fill-ink"
              opacity="0.3"
            />
            <circle cx={x(a.expected_ms)} cy={y} r="3" className="fill-ink" />
          </g>
        )
      })}
    </svg>
  )
}
