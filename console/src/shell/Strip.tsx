import { Link } from 'react-router'

import type { Stats } from '../api/client'
import { factPath } from '../lib/facts'
import { grouped, localTimes } from '../lib/format'
import { stationWord } from '../lib/states'
import { states } from '../lib/words'
import { Mark } from '../parts/Mark'

/** Strip tells in one line what is worst, and how many jobs are where. Its height never changes. */
export function Strip({ stats, error }: { stats?: Stats; error: Error | null }) {
  return (
    <div className="flex h-[44px] items-center gap-6 border-b border-hairline">
      <p className="min-w-0 flex-1 truncate">
        {stats ? <Worst stats={stats} /> : error ? `How things stand is not known: ${error.message}.` : ''}
      </p>
      <nav aria-label="Jobs by state" className="flex shrink-0 gap-4 max-md:hidden">
        {states
          .filter((s) => s !== 'skipped' && s !== 'cancelled')
          .map((s) => (
            <Link
              key={s}
              to={s === 'dead' ? '/dead' : `/jobs?state=${s}`}
              title={stationWord[s]}
              className="inline-flex items-center gap-1.5 whitespace-nowrap hover:underline underline-offset-4"
            >
              <Mark state={s} />
              <span className={stats?.counts[s] ? 'font-semibold' : 'text-quiet'}>{stats ? grouped(stats.counts[s]) : '–'}</span>
              <span className="text-quiet max-xl:sr-only">{stationWord[s]}</span>
            </Link>
          ))}
      </nav>
    </div>
  )
}

function Worst({ stats }: { stats: Stats }) {
  const f = stats.facts[0]
  if (!f) return null
  const to = factPath(f)
  const text = localTimes(f.text)
  return to ? (
    <Link to={to} className={`hover:underline underline-offset-4 ${f.wrong ? 'font-semibold' : ''}`} title={text}>
      {text}
    </Link>
  ) : (
    <span className={f.wrong ? 'font-semibold' : ''}>{text}</span>
  )
}
