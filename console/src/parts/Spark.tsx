/** Spark draws figures as a line without an axis, the present at the right edge; gaps where there are none. Lines beside it are lighter. */
export function Spark({
  lines,
  width = 122,
  height = 18,
  label,
}: {
  lines: { values: (number | null)[]; ink: string }[]
  width?: number
  height?: number
  label: string
}) {
  const most = Math.max(1, ...lines.flatMap((l) => l.values.map((v) => v ?? 0)))
  return (
    <svg viewBox={`0 0 ${width} ${height}`} width={width} height={height} className="block" fill="none" role="img" aria-label={label}>
      <path d={`M0 ${height - 0.5}H${width}`} className="stroke-hairline" />
      {lines.map((l, i) => (
        <path key={i} d={drawn(l.values, most, width, height)} className={l.ink} strokeWidth="1.3" strokeLinejoin="round" />
      ))}
    </svg>
  )
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
