import { lazy, type ReactNode, Suspense, useState } from 'react'

import { type Filter, type Job, type State, narrows, selectionOf } from '../../api/client'
import { handOver } from '../../lib/address'
import { announce } from '../../lib/announce'
import { base } from '../../lib/base'
import { exportJobs } from '../../lib/download'
import { grouped } from '../../lib/format'
import { type Action, type Target, actsOn, verbs } from '../../lib/acts'
import { Menu } from '../../parts/Menu'

const ActOnMany = lazy(() => import('../../parts/Act').then((m) => ({ default: m.ActOnMany })))

const mostInLink = 100

/** Tools acts on the chosen jobs or, where none is chosen, on all that match, and exports them. */
export function Tools({
  filter,
  jobs,
  shown,
  matched,
  may,
  none,
  children,
}: {
  filter: Filter
  /** jobs are the chosen ones. */
  jobs: Job[]
  shown: Job[]
  matched?: number
  may: boolean
  none: () => void
  children: ReactNode
}) {
  const [asked, setAsked] = useState<{ action: Action; target: Target }>()
  const ids = jobs.map((j) => j.id)
  const some = jobs.length > 0
  const what = some ? `${grouped(jobs.length)} chosen` : matched === undefined ? 'all that match' : `all ${grouped(matched)}`
  const offered = (Object.keys(verbs) as Action[])
    .map((action) => ({ action, target: some ? { ids } : targetOf(action, filter) }))
    .filter(({ action, target }) => target && (!some || jobs.some((j) => actsOn[action].includes(j.state))))
  const file = (format: 'csv' | 'jsonl') => {
    exportJobs(filter, format, some ? ids : undefined).then(
      () => announce(`Exported ${what}.`),
      (e: Error) => announce(`Nothing was exported: ${e.message}`),
    )
  }
  const link = () => {
    const of = (some ? jobs : shown).slice(0, mostInLink)
    navigator.clipboard.writeText(location.origin + base + handOver(of)).then(
      () => announce(`The link to these ${of.length} jobs was copied.`),
      () => announce('The link could not be copied: the browser does not allow it here.'),
    )
  }
  if (shown.length === 0) return null
  return (
    <div className="mt-2 flex flex-wrap items-center gap-3 border-b border-hairline pb-2">
      {may && offered.length > 0 && (
        <Menu
          label={`Act on ${what}`}
          items={offered.map(({ action, target }) => ({ text: `${verbs[action]} …`, do: () => setAsked({ action, target: target! }) }))}
        />
      )}
      <Menu
        label={`Export ${what}`}
        items={[
          { text: 'CSV', hint: 'for spreadsheets', do: () => file('csv') },
          { text: 'JSON Lines', hint: 'for programs', do: () => file('jsonl') },
          { text: 'Copy a link', hint: `to ${Math.min(some ? jobs.length : shown.length, mostInLink)} jobs as they are`, do: link },
        ]}
      />
      {some && (
        <button type="button" className="press" onClick={none}>
          Choose none
        </button>
      )}
      {children}
      <Suspense>{asked && <ActOnMany {...asked} close={() => setAsked(undefined)} acted={none} />}</Suspense>
    </div>
  )
}

/** targetOf are the jobs of a filter that an act can be for; nothing where there are none. */
function targetOf(action: Action, filter: Filter): Target | undefined {
  if (!selectionOf(filter) || !narrows(filter)) return undefined
  if (!filter.state) return { filter }
  const states = (filter.state.split(',') as State[]).filter((s) => actsOn[action].includes(s))
  return states.length > 0 ? { filter: { ...filter, state: states.join(',') } } : undefined
}
