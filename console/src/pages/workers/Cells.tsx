import { Link } from 'react-router'

import type { Slot, Worker } from '../../api/client'
import { span } from '../../lib/format'
import { beyond } from './workerWords'

const height = 16
const usual = 2 / 3 // a cell is filled so far when its job has run as long as is usual

/** Cells draws one cell for each slot of a worker, filled as far as its job's run time is of what is usual for its task. */
export function Cells({ w, now, width = 30 }: { w: Worker; now: number; width?: number }) {
  const jobs = w.jobs ?? []
  const free = Math.max((w.slots ?? 0) - jobs.length, 0)
  return (
    <span className={`inline-flex max-w-[34rem] flex-wrap gap-1 align-middle ${w.silent ? 'opacity-45' : ''}`}>
      {jobs.map((s) => (
        <Link
          key={s.job}
          to={`/jobs/${s.job}`}
          aria-label={said(s, now)}
          title={said(s, now)}
          className="rounded-[2px] focus-visible:outline-offset-1"
        >
          <Cell s={s} now={now} width={width} />
        </Link>
      ))}
      {Array.from({ length: free }, (_, i) => (
        <svg key={i} width={width} height={height} role="img" aria-label="a free slot" className="stroke-quiet" fill="none">
          <title>a free slot</title>
          <rect x="0.5" y="0.5" width={width - 1} height={height - 1} rx="2" strokeOpacity="0.55" strokeDasharray="2 2" />
        </svg>
      ))}
    </span>
  )
}

function said(s: Slot, now: number): string {
  const took = span(Math.max(now - Date.parse(s.since), 0))
  const usual = s.usual_ms
    ? `; half of its task’s runs are done within ${span(s.usual_ms)}${beyond(s, now) ? `, and 19 of 20 within ${span(s.long_ms ?? s.usual_ms)}` : ''}`
    : ''
  return `job ${s.job}, ${s.task}, for ${took}${usual}${s.cancel_asked_at ? '; asked to end' : ''}`
}

function Cell({ s, now, width }: { s: Slot; now: number; width: number }) {
  const usualAt = Math.round(width * usual)
  const took = Math.max(now - Date.parse(s.since), 0)
  const share = s.usual_ms ? took / s.usual_ms : 0
  const over = beyond(s, now)
  const filled = share <= 1 ? share * usualAt : Math.min(usualAt + (share - 1) * (width - usualAt), width)
  return (
    <svg width={width} height={height} className="text-running" fill="none" aria-hidden>
      <rect x="0.5" y="0.5" width={width - 1} height={height - 1} rx="2" className="stroke-running" />
      {s.usual_ms ? (
        <rect
          x="2"
          y="2"
          width={Math.max(Math.min(filled, width - 4), 1)}
          height={height - 4}
          fill="currentColor"
          fillOpacity={over ? 1 : 0.55}
        />
      ) : (
        <circle cx={width / 2} cy={height / 2} r="2.5" fill="currentColor" />
      )}
      {s.usual_ms && !over && <path d={`M${usualAt + 1.5} 2v${height - 4}`} className="stroke-running" strokeOpacity="0.7" />}
      {over && (
        <path
          transform={`translate(${width / 2 - 15})`}
          d="M12 3.5v5.5M15 3.5v5.5M18 3.5v5.5M12 11.6v.6M15 11.6v.6M18 11.6v.6"
          className="stroke-ground"
          strokeWidth="1.6"
          strokeLinecap="round"
        />
      )}
      {s.cancel_asked_at && <path d={`M3 ${height - 3}L${width - 3} 3`} className="stroke-ink" strokeWidth="1.5" />}
    </svg>
  )
}
