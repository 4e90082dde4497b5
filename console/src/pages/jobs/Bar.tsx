import { type Filter, filterNames, useStats, useTasks } from '../../api/client'
import { useGo } from '../../lib/address'
import { moment } from '../../lib/format'
import { states } from '../../lib/words'

/** Bar says which jobs the list shows, and changes it: by state, queue, task and time here, by all else in the field above. */
export function Bar({ filter }: { filter: Filter }) {
  const go = useGo()
  const queues = useStats().data?.queues.map((q) => q.name) ?? []
  const tasks = useTasks().data?.map((t) => t.name) ?? []
  const others = filterNames.filter((n) => filter[n] && !['state', 'queue', 'task', 'since'].includes(n))
  return (
    <div role="group" aria-label="Which jobs" className="flex flex-wrap items-center gap-x-3 gap-y-2">
      <Choice name="state" value={filter.state} among={states} choose={(state) => go({ state })} />
      <Choice name="queue" value={filter.queue} among={queues} choose={(queue) => go({ queue })} />
      <Choice name="task" value={filter.task} among={tasks} choose={(task) => go({ task })} />
      <Since value={filter.since} choose={(since) => go({ since })} />
      {others.map((n) => (
        <Chip key={n} name={n} value={filter[n]!} drop={() => go({ [n]: undefined })} />
      ))}
      {(others.length > 0 || filter.state || filter.queue || filter.task || filter.since) && (
        <button type="button" className="press" onClick={() => go(Object.fromEntries(filterNames.map((n) => [n, undefined])))}>
          Clear
        </button>
      )}
    </div>
  )
}

const shape = 'h-[28px] rounded-full border px-2.5'

/** Choice is a part of the filter that has one of some values, or any. */
function Choice({
  name,
  value,
  among,
  choose,
}: {
  name: string
  value?: string
  among: readonly string[]
  choose: (value?: string) => void
}) {
  const all = value && !among.includes(value) ? [value, ...among] : among
  return (
    <select
      aria-label={`Filter by ${name}`}
      className={`${shape} max-w-[14rem] bg-ground ${value ? 'border-accent font-semibold text-accent' : 'border-hairline text-quiet'}`}
      value={value ?? ''}
      onChange={(e) => choose(e.target.value || undefined)}
    >
      <option value="">{name}: all</option>
      {all.map((v) => (
        <option key={v} value={v}>
          {value === v ? `${name}: ${v}` : v}
        </option>
      ))}
    </select>
  )
}

/** Since chooses from when on jobs were enqueued. */
function Since({ value, choose }: { value?: string; choose: (since?: string) => void }) {
  const back = (hours: number) => new Date(Date.now() - hours * 3_600_000).toISOString()
  const midnight = (days: number) => {
    const d = new Date()
    d.setHours(0, 0, 0, 0)
    d.setDate(d.getDate() - days)
    return d.toISOString()
  }
  const at: Record<string, () => string> = {
    'last hour': () => back(1),
    'last day': () => back(24),
    today: () => midnight(0),
    'since yesterday': () => midnight(1),
    'last 7 days': () => back(168),
  }
  return (
    <select
      aria-label="Filter by time of enqueue"
      className={`${shape} bg-ground ${value ? 'border-accent font-semibold text-accent' : 'border-hairline text-quiet'}`}
      value={value ? 'set' : ''}
      onChange={(e) => choose(at[e.target.value]?.())}
    >
      <option value="">enqueued: any time</option>
      {value && <option value="set">since {moment(value)}</option>}
      {Object.keys(at).map((name) => (
        <option key={name}>{name}</option>
      ))}
    </select>
  )
}

/** Chip is another part of the filter, with a way to drop it. */
function Chip({ name, value, drop }: { name: string; value: string; drop: () => void }) {
  return (
    <span className={`${shape} inline-flex max-w-[18rem] items-center gap-2 border-accent text-accent`}>
      <span className="truncate" title={value}>
        {name}: <bdi className="font-semibold">{value}</bdi>
      </span>
      <button type="button" className="min-h-[24px] min-w-[24px]" aria-label={`Show any ${name}`} onClick={drop}>
        ×
      </button>
    </span>
  )
}
