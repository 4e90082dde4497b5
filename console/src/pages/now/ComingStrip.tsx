import { Link } from 'react-router'

import { useComing } from '../../api/client'
import { clock } from '../../lib/format'
import { useWidth } from '../../lib/useWidth'
import { oftenWords } from '../coming/schedules'

const hours = 6
const height = 52
const base = 30

/** ComingStrip draws what becomes due within the next hours: what comes often as a band, what comes seldom with its name. */
export function ComingStrip() {
  const { data } = useComing()
  const [box, width] = useWidth<HTMLDivElement>()
  const from = data ? Date.parse(data.as_of) : 0
  const to = from + hours * 3_600_000
  const x = (ms: number) => ((ms - from) / (to - from)) * width
  const often = data?.often ?? []
  const seldom = placed(
    (data?.items ?? [])
      .filter((i) => i.schedule && Date.parse(i.at) < to && !often.some((o) => o.schedule === i.schedule))
      .map((i) => ({ name: i.schedule!, at: i.at, x: x(Date.parse(i.at)) })),
    width,
  )
  return (
    <section aria-label="Coming up" className="min-w-0 xl:mt-3">
      <h2 className="flex items-baseline gap-2">
        <Link className="font-semibold whitespace-nowrap hover:underline" to="/coming">
          Coming up
        </Link>
        <span className="truncate text-quiet">
          within {hours} hours{often.length > 0 && `; often ${often.map(oftenWords).join(', ')}`}
        </span>
      </h2>
      <div ref={box} style={{ height }}>
        {width > 0 && data && (
          <svg width={width} height={height} className="block" role="img" aria-label="What becomes due within the next hours">
            {often.length > 0 && <rect x="0" y={base - 7} width={width} height="7" className="fill-scheduled" opacity="0.25" />}
            <path d={`M0 ${base}H${width}`} className="stroke-quiet" />
            {Array.from({ length: hours }, (_, i) => {
              const at = new Date(from)
              at.setMinutes(60 * (i + 1), 0, 0)
              return (
                <text key={i} x={x(at.getTime())} y={height - 6} textAnchor="middle" fontSize="11" className="fill-quiet">
                  {x(at.getTime()) > 16 && x(at.getTime()) < width - 16 ? clock(at).slice(0, 5) : ''}
                </text>
              )
            })}
            {seldom.map((s) => (
              <g key={s.name + s.at}>
                <title>{`${s.name} at ${clock(s.at)}`}</title>
                <path d={`M${s.x} ${base}V${s.named ? 6 : 18}`} className="stroke-scheduled" strokeWidth="2" />
                {s.named && (
                  <text x={s.x + 4} y="15" fontSize="12" className="fill-ink">
                    {s.name}
                  </text>
                )}
              </g>
            ))}
          </svg>
        )}
      </div>
    </section>
  )
}

/** placed tells which runs have room for their names, the earlier first. */
function placed(runs: { name: string; at: string; x: number }[], width: number) {
  let free = 0
  return runs.map((r) => {
    const end = r.x + r.name.length * 6.2
    const named = r.x >= free && end < width
    if (named) free = end + 10
    return { ...r, named }
  })
}
