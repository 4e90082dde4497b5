import { type Filter, filterNames, labelsOf, narrows, pairOf, useStats, useTasks } from '../../api/client'
import { useGo } from '../../lib/address'
import { moment } from '../../lib/format'
import { states } from '../../lib/words'
import { pill, pillInk } from '../../lib/pill'
import { Pick } from '../../parts/Pick'

/** The parts of a filter that have a control of their own; all others are chips. */
const own = ['state', 'queue', 'task', 'since', 'until', 'order', 'label', 'from']

/** Bar says which jobs the list shows, and changes it: by state, queue, task and time here, by all else in the field above. */
export function Bar({ filter }: { filter: Filter }) {
  const go = useGo()
  const queues = useStats().data?.queues.map((q) => q.name) ?? []
  const tasks = useTasks().data?.map((t) => t.name) ?? []
  const labels = labelsOf(filter) ?? []
  return (
    <div role="group" aria-label="Which jobs" className="flex flex-wrap items-center gap-x-2 gap-y-2">
      <Pick name="state" value={filter.state} among={states} pick={(state) => go({ state })} />
      <Pick name="queue" value={filter.queue} among={queues} pick={(queue) => go({ queue })} />
      <Pick name="task" value={filter.task} among={tasks} pick={(task) => go({ task })} />
      <When filter={filter} />
      {filterNames
        .filter((n) => filter[n] && !own.includes(n))
        .map((n) => (
          <Chip key={n} name={n} value={filter[n]!} drop={() => go({ [n]: undefined })} />
        ))}
      {labels.map((l) => (
        <Chip
          key={l}
          name="label"
          value={pairOf(l).join(':')}
          drop={() => go({ label: labels.filter((x) => x !== l).join('\n') || undefined })}
        />
      ))}
      {narrows(filter) && (
        <button
          type="button"
          className="press"
          onClick={() => go(Object.fromEntries(filterNames.filter((n) => n !== 'order').map((n) => [n, undefined])))}
        >
          Clear
        </button>
      )}
    </div>
  )
}

const back = (hours: number) => new Date(Date.now() - hours * 3_600_000).toISOString()

/** midnight is when a day began, so many days ago, in the reader's zone. */
function midnight(days: number): string {
  const d = new Date()
  d.setHours(0, 0, 0, 0)
  d.setDate(d.getDate() - days)
  return d.toISOString()
}

/** The spans that are offered, each with where it begins and, if it is over, where it ends. */
const offered: Record<string, () => [string, string?]> = {
  'last hour': () => [back(1)],
  'last 24 hours': () => [back(24)],
  today: () => [midnight(0)],
  yesterday: () => [midnight(1), midnight(0)],
  'last 7 days': () => [back(168)],
}

/** When chooses from when to when jobs were enqueued. */
function When({ filter: { since, until } }: { filter: Filter }) {
  const go = useGo()
  const choose = (name: string) => {
    const [from, to] = offered[name]?.() ?? []
    go({ since: from, until: to })
  }
  const set = !!since || !!until
  return (
    <select
      aria-label="Filter by time of enqueue"
      className={`${pill} bg-ground ${pillInk(set)}`}
      value={set ? 'set' : ''}
      onChange={(e) => choose(e.target.value)}
    >
      <option value="">enqueued: any time</option>
      {set && (
        <option value="set">
          {since && `since ${moment(since)}`} {until && `until ${moment(until)}`}
        </option>
      )}
      {Object.keys(offered).map((name) => (
        <option key={name}>{name}</option>
      ))}
    </select>
  )
}

/** Chip is another part of the filter, with a way to drop it. */
function Chip({ name, value, drop }: { name: string; value: string; drop: () => void }) {
  return (
    <span className={`${pill} border-accent text-accent`}>
      <span className="truncate" title={value}>
        {name}: <bdi className="font-semibold">{value}</bdi>
      </span>
      <button type="button" className="min-h-[24px] min-w-[24px]" aria-label={`Show any ${name}`} onClick={drop}>
        ×
      </button>
    </span>
  )
}
