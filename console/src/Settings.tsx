import { Link, useNavigate } from 'react-router'

import { search, useFilter } from './address'
import { type Task, useActions, useTasks } from './api/client'
import { Copyable } from './Copyable'
import { age, grouped, span } from './format'
import { TaskBeside } from './TaskBeside'
import { useNow } from './useNow'

/** Settings answers: what do the jobs of a task get that say nothing themselves, and who has changed what. */
export function Settings({ open }: { open?: string }) {
  const { data, error } = useTasks()
  const chosen = data?.find((t) => t.name === open)
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <div className={`min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <section aria-label="Tasks" className="mt-6">
          <div className="border-b border-hairline pb-2">
            <h2 className="text-lg font-semibold">Tasks</h2>
            <p className="max-w-[80ch]">
              {data ? answer(data) : error ? `The tasks could not be read: ${error.message}.` : 'Reading the tasks …'}
            </p>
          </div>
          {data && data.length > 0 && <Rows all={data} open={open} />}
          {data?.length === 0 && <Copyable command={'hmule task set tide.predict max_attempts=5'} />}
        </section>
        <Actions />
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
          <th className={`w-32 text-right ${narrow}`}>usual run</th>
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
              <td>{t.summary || <span className="text-quiet">none</span>}</td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

const actionWord: Record<string, string> = {
  start_now: 'start now',
  set_task: 'defaults of a task',
  set_queue: 'defaults of a queue',
  stop_operation: 'stop an operation',
}

/** Actions tells who did what. */
function Actions() {
  const { data } = useActions()
  const now = useNow(1000)
  return (
    <section aria-label="What was done" className="mt-8">
      <div className="border-b border-hairline pb-2">
        <h2 className="text-lg font-semibold">What was done</h2>
        <p>
          {data?.length === 0
            ? 'Nobody has done anything yet that is not a job’s own way.'
            : 'By operators, latest first; each action stays on record.'}
        </p>
      </div>
      <ul>
        {data?.map((a) => (
          <li key={a.id} className="flex flex-wrap items-baseline gap-x-5 border-b border-hairline py-1.5">
            <span className="w-40 shrink-0">{actionWord[a.action] ?? a.action}</span>
            <span className="w-20 shrink-0">
              {!!a.job && (
                <Link className="press" to={`/jobs/${a.job}`}>
                  job {a.job}
                </Link>
              )}
            </span>
            <code className="min-w-0 flex-1 truncate text-[13px] text-quiet" title={JSON.stringify(a.detail)}>
              {JSON.stringify(a.detail) === '{}' ? '' : JSON.stringify(a.detail)}
            </code>
            <span className="shrink-0">{a.principal}</span>
            <span className="w-24 shrink-0 text-right text-quiet">{age(a.at, now)}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}
