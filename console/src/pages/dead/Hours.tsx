/** Hours draws how many failed in each of some spans, the present at the right edge. */
export function Hours({ hours, words, width, height }: { hours: number[]; words: string; width: number; height: number }) {
  const most = Math.max(...hours, 1)
  const widest = 7
  const each = Math.min(width / Math.max(hours.length, 1), widest)
  const left = width - each * hours.length
  const total = hours.reduce((a, b) => a + b, 0)
  const said = `${total} failures within ${words}, at most ${most} in one`
  return (
    <svg width={width} height={height} role="img" aria-label={said} className="align-middle text-ink">
      <title>{said}</title>
      <path d={`M0 ${height - 0.5}H${width}`} className="stroke-hairline" />
      {hours.map(
        (n, i) =>
          n > 0 && (
            <rect
              key={i}
              x={left + i * each}
              y={height - 1 - Math.max((n / most) * (height - 2), 2)}
              width={Math.max(each - 0.6, 1.2)}
              height={Math.max((n / most) * (height - 2), 2)}
              fill="currentColor"
            />
          ),
      )}
    </svg>
  )
}
