import { Link, useNavigate } from 'react-router'

import { useTitle } from '../../lib/title'
import { search, useFilter } from '../../lib/address'
import { type Task, useSettings, useTasks } from '../../api/client'
import { Copyable } from '../../parts/Copyable'
import { grouped, span } from '../../lib/format'
import { InForce } from './InForce'
import { Sessions } from './Sessions'
import { TaskBeside } from './TaskBeside'
import { Heading } from '../../parts/Heading'

/** Settings answers: what do the jobs of a task get that say nothing themselves. */
export function Settings({ open }: { open?: string }) {
  const { data, error } = useTasks()
  const settings = useSettings()
  const read = !!(data ?? error) // what stands below comes after it, so that nothing moves
  const chosen = data?.find((t) => t.name === open)
  useTitle(open, 'Settings')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <div className={`min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <section aria-label="Tasks" className="mt-6">
          <Heading title="Tasks" list="/v1/tasks" empty={!data?.length}>
            {data ? answer(data) : error ? `The tasks could not be read: ${error.message}.` : 'Reading the tasks …'}
          </Heading>
          {data && data.length > 0 && <Rows all={data} open={open} />}
          {data?.length === 0 && <Copyable command={'hmule task set tide.predict max_attempts=5'} />}
        </section>
        {read && <InForce />}
        {read && (settings.data ?? settings.error) && <Sessions />}
      </div>
      {open && <TaskBeside key={open} name={open} t={chosen} known={!!data} />}
    </div>
  )
}

function answer(all: Task[]): string {
  if (all.length === 0) return 'There is no task yet: one exists from its first job, or from its first defaults.'
  const own = all.filter((t) => t.defaults && Object.keys(t.defaults).length > 0).length
  const some = own === 0 ? 'none has' : own === 1 ? 'one has' : `${own} have`
  return `${all.length === 1 ? '1 task' : `${grouped(all.length)} tasks`}, of which ${some} defaults of its own. A job’s own settings stand over its task’s, these over its queue’s, these over what is built in.`
}

function Rows({ all, open }: { all: Task[]; open?: string }) {
  const filter = useFilter()
  const navigate = useNavigate()
  const narrow = open ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className="w-full table-fixed border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal">
          <th className="w-44">task</th>
          <th className={`w-24 text-right ${narrow}`}>workers</th>
          <th className={`w-28 text-right ${narrow}`} title="Half of the runs of the last week took no longer">
            usual run
          </th>
          <th className={`w-28 text-right ${narrow}`} title="Half of the jobs of the last week waited no longer">
            usual wait
          </th>
          <th className={`w-24 text-right ${narrow}`} title="Which part of the attempts of the last week failed">
            fails
          </th>
          <th>defaults of its own</th>
        </tr>
      </thead>
      <tbody>
        {all.map((t) => {
          const to = (t.name === open ? '/settings' : `/settings/${t.name}`) + search(filter)
          return (
            <tr
              key={t.name}
              className={`h-[32px] cursor-pointer border-b border-hairline hover:bg-raised [&>td]:truncate [&>td]:pr-5 ${t.name === open ? 'bg-raised' : ''}`}
              aria-current={t.name === open || undefined}
              data-task={t.name}
              onClick={() => void navigate(to)}
            >
              <td>
                <Link to={to} onClick={(e) => e.stopPropagation()} className={t.name === open ? 'font-semibold' : 'hover:underline'}>
                  {t.name}
                </Link>
              </td>
              <td className={`text-right ${narrow}`}>{t.workers}</td>
              <td className={`text-right ${narrow}`}>{t.run?.p50_ms === undefined ? '' : span(t.run.p50_ms)}</td>
              <td className={`text-right ${narrow}`}>{t.wait?.p50_ms === undefined ? '' : span(t.wait.p50_ms)}</td>
              <td className={`text-right ${narrow}`}>{t.failing && `${((100 * t.failing.failed) / t.failing.started).toFixed(1)} %`}</td>
              <td>{t.summary || <span className="text-quiet">none</span>}</td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}
