import { age } from '../lib/format'

interface Told {
  progress?: { percent: number; note?: string }
  reported_at?: string
}

/** Progress draws how far a running job has come, and says when it was last heard. */
export function Progress({ of, now }: { of: Told; now: number }) {
  if (!of.progress) return null
  const { percent, note } = of.progress
  return (
    <p className="flex flex-wrap items-center gap-x-3">
      <svg width="120" height="8" role="img" aria-label={`${Math.round(percent)} per cent`} className="shrink-0">
        <rect x="0.5" y="0.5" width="119" height="7" rx="1" fill="none" className="stroke-running" />
        <rect x="1" y="1" width={(118 * percent) / 100} height="6" className="fill-running" />
      </svg>
      <span>{Math.round(percent)} %</span>
      <span>{note}</span>
      {of.reported_at && <span className="text-quiet">told {age(of.reported_at, now)}</span>}
    </p>
  )
}
