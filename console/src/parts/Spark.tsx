import { point, usePoint } from '../lib/crosshair'

/** Spark draws figures as a line without an axis, the present at the right edge; gaps where there are none. Lines beside it are lighter. */
export function Spark({
  lines,
  times,
  width = 122,
  height = 18,
  label,
}: {
  lines: { values: (number | null)[]; ink: string }[]
  /** times are when the first and the last value are of, in seconds since 1970: then the crosshair of the page is drawn. */
  times?: [number, number]
  width?: number
  height?: number
  label: string
}) {
  const most = Math.max(1, ...lines.flatMap((l) => l.values.map((v) => v ?? 0)))
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width={width}
      height={height}
      className="block"
      fill="none"
      role="img"
      aria-label={label}
      onPointerMove={
        times &&
        ((e) => {
          const box = e.currentTarget.getBoundingClientRect()
          const part = Math.min(Math.max((e.clientX - box.left) / box.width, 0), 1)
          point(times[0] + Math.round((part * (times[1] - times[0])) / 60) * 60)
        })
      }
      onPointerLeave={times && (() => point(null))}
    >
      <path d={`M0 ${height - 0.5}H${width}`} className="stroke-hairline" />
      {times && <Crosshair times={times} width={width} height={height} />}
      {lines.map((l, i) => (
        <path key={i} d={drawn(l.values, most, width, height)} className={l.ink} strokeWidth="1.3" strokeLinejoin="round" />
      ))}
    </svg>
  )
}

/** Crosshair is a line at the moment that is pointed at, where it is within the drawing. */
function Crosshair({ times: [from, to], width, height }: { times: [number, number]; width: number; height: number }) {
  const at = usePoint()
  if (at === null || at < from || at > to) return null
  const x = (width * (at - from)) / Math.max(to - from, 1)
  return <path d={`M${x.toFixed(1)} 0V${height}`} className="stroke-quiet" strokeWidth="1" strokeDasharray="2 2" />
}

function drawn(values: (number | null)[], most: number, width: number, height: number): string {
  const step = width / Math.max(values.length - 1, 1)
  let pen = 'M'
  return values
    .map((v, i) => {
      if (v === null) {
        pen = 'M'
        return ''
      }
      const point = `${pen}${(i * step).toFixed(1)} ${(height - 1 - (v / most) * (height - 3)).toFixed(1)}`
      pen = 'L'
      return point
    })
    .join('')
}
