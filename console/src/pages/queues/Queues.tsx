import { Link, useNavigate } from 'react-router'

import { useTitle } from '../../lib/title'
import { search, useFilter } from '../../lib/address'
import { type Queue, useHistory, useStats } from '../../api/client'
import { Copyable } from '../../parts/Copyable'
import { grouped, span } from '../../lib/format'
import { binds, rate, startWords } from '../../lib/pace'
import { useNow } from '../../lib/useNow'
import { Clear } from '../../parts/Clear'
import { QueueSpark } from '../../parts/QueueSpark'
import { Follows } from './Follows'
import { QueueBeside } from './QueueBeside'
import { Heading } from '../../parts/Heading'

/** Queues answers: what waits where, in what order it starts, and what holds it back. */
export function Queues({ open }: { open?: string }) {
  const { data, error } = useStats()
  const all = data?.queues
  useTitle(open && `Queue ${open}`, 'Queues')
  return (
    <div className={open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,32rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''}>
      <section aria-label="Queues" className={`mt-4 min-w-0 ${open ? 'max-lg:hidden' : ''}`}>
        <Heading title="Queues" list="/v1/queues" empty={!all?.length}>
          {all ? answer(all) : error ? `The queues could not be read: ${error.message}.` : 'Reading the queues …'}
        </Heading>
        {all && all.length > 0 && <Rows all={all} open={open} />}
        {all?.length === 0 && <Copyable command={'hmule queue set berths max_running=8'} />}
        <Follows />
      </section>
      {open && <QueueBeside key={open} name={open} q={all?.find((q) => q.name === open)} known={!!all} />}
    </div>
  )
}

/** full tells whether a queue has as many running as it may. */
function full(q: Queue): boolean {
  return q.max_running !== undefined && q.running >= q.max_running
}

function answer(all: Queue[]): string {
  if (all.length === 0) return 'There is no queue yet: one exists from its first job, or from its first settings.'
  const waiting = all.reduce((n, q) => n + q.counts.ready, 0)
  const parts = [
    `${grouped(waiting)} ${waiting === 1 ? 'job is' : 'jobs are'} ready in ${all.length === 1 ? '1 queue' : `${grouped(all.length)} queues`}.`,
  ]
  const named = (some: Queue[]) => some.map((q) => q.name).join(', ')
  const [paused, limited, alone] = [
    all.filter((q) => q.paused),
    all.filter((q) => full(q) && q.counts.ready > 0),
    all.filter((q) => q.workers === 0 && q.counts.ready > 0),
  ]
  if (alone.length > 0) parts.push(`Nobody serves ${named(alone)}.`)
  if (paused.length > 0) parts.push(`Paused: ${named(paused)}.`)
  if (limited.length > 0) parts.push(`At their limit of running jobs: ${named(limited)}.`)
  return parts.join(' ')
}

function Rows({ all, open }: { all: Queue[]; open?: string }) {
  const filter = useFilter()
  const navigate = useNavigate()
  const history = useHistory('hour').data
  const now = useNow(1000)
  const narrow = open ? 'max-2xl:hidden' : 'max-md:hidden'
  return (
    <table className="w-full border-collapse">
      <thead className="text-left text-[13px] text-quiet">
        <tr className="h-[32px] border-b border-hairline whitespace-nowrap [&>th]:pr-5 [&>th]:font-normal">
          <th>queue</th>
          <th className="text-right">ready</th>
          <th className="text-right">running</th>
          <th className={`text-right ${narrow}`}>held</th>
          <th className={`text-right ${narrow}`}>backoff</th>
          <th className={`text-right ${narrow}`}>dead</th>
          <th className="text-right" title="How long the first job to be taken has been ready">
            waits
          </th>
          <th className={`text-right ${narrow}`} title="Jobs that came, new or requeued, and that were finished, over the last minute">
            in · out a minute
          </th>
          <th className={`text-right ${narrow}`}>workers</th>
          <th className={narrow}>last hour, in over out</th>
          <th className="text-right">clear by</th>
          <th className="w-full max-md:hidden">{all.some((q) => binds(q)) && 'held back by'}</th>
        </tr>
      </thead>
      <tbody>
        {all.map((q) => {
          const to = (q.name === open ? '/queues' : `/queues/${q.name}`) + search(filter)
          const count = (state: 'ready' | 'held' | 'backoff' | 'dead', className: string) => (
            <td className={`text-right ${className}`}>
              {q.counts[state] > 0 ? (
                <Link className="press" to={`/jobs?state=${state}&queue=${q.name}`} onClick={(e) => e.stopPropagation()}>
                  {grouped(q.counts[state])}
                </Link>
              ) : (
                <span className="text-quiet">–</span>
              )}
            </td>
          )
          return (
            <tr
              key={q.name}
              className={`h-[32px] cursor-pointer border-b border-hairline whitespace-nowrap hover:bg-raised [&>td]:pr-5 ${q.name === open ? 'bg-raised' : ''}`}
              aria-current={q.name === open || undefined}
              data-queue={q.name}
              onClick={() => void navigate(to)}
            >
              <td className="max-w-56 truncate max-sm:max-w-28" title={q.name}>
                <Link to={to} onClick={(e) => e.stopPropagation()} className={q.name === open ? 'font-semibold' : 'hover:underline'}>
                  <bdi>{q.name}</bdi>
                </Link>
              </td>
              {count('ready', '')}
              <td className="text-right">
                {q.running > 0 || q.max_running ? grouped(q.running) : <span className="text-quiet">–</span>}
                {q.max_running !== undefined && (
                  <span className={full(q) ? 'font-semibold' : 'text-quiet'}> of {grouped(q.max_running)}</span>
                )}
              </td>
              {count('held', narrow)}
              {count('backoff', narrow)}
              {count('dead', narrow)}
              <td className="text-right">{q.counts.ready > 0 ? span(q.oldest_ready_ms) : ''}</td>
              <td className={`text-right ${narrow}`}>
                {rate(q.in_per_minute)} · {rate(q.out_per_minute)}
              </td>
              <td className={`text-right ${narrow}`}>{q.workers}</td>
              <td className={narrow}>
                <QueueSpark q={q} history={history} />
              </td>
              <td className="text-right">
                <Clear q={q} now={now} />
              </td>
              <td className={`max-w-0 truncate max-md:hidden ${q.paused ? 'font-semibold' : 'text-quiet'}`} title={startWords(q)}>
                {binds(q)}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}
