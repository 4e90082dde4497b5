import { type ReactNode, useEffect } from 'react'

import { useCron, useTasks } from '../../api/client'
import { Field } from '../../parts/DefaultsForm'
import type { Entered } from './schedules'
import { Times } from './Times'
import { useSettled } from '../../lib/useSettled'

interface Form {
  value: Entered
  set: (e: Entered) => void
  isNew: boolean
  /** batch tells that a batch is started, which is not edited here. */
  batch: boolean
  /** problem is what keeps the payload from being JSON. */
  problem?: string
  /** told is called with whether the service understands the rule. */
  told: (valid: boolean) => void
  /** shown tells whether the times that follow are shown. */
  shown: boolean
}

const grid =
  'grid grid-cols-[5.5rem_minmax(0,15rem)_minmax(0,1fr)] items-baseline gap-x-4 gap-y-1.5 pt-4 max-sm:grid-cols-[5.5rem_minmax(0,1fr)] max-sm:[&>label>*:nth-child(3)]:col-start-2'

/** ScheduleForm are the fields of a schedule. Sentence and next times change while one types. */
export function ScheduleForm({ value, set, isNew, batch, problem, told, shown }: Form) {
  const change = (name: keyof Entered) => (e: { target: { value: string } }) => set({ ...value, [name]: e.target.value })
  const input = (name: keyof Entered, label: string, hint: string, placeholder = '', list?: string) => (
    <Field label={label} hint={hint}>
      <input
        className="field w-full placeholder:text-quiet"
        name={name}
        spellCheck={false}
        placeholder={placeholder}
        value={value[name]}
        list={list}
        onChange={change(name)}
      />
    </Field>
  )
  const tasks = useTasks().data ?? []
  return (
    <>
      <div className={grid}>
        {isNew && input('name', 'name', 'a-z, 0-9, dots and dashes', 'tides')}
        <Field label="when" hint={value.by === 'cron' ? 'by the calendar and the clock' : 'a span of time, whatever the clock reads'}>
          <select className="field w-full" name="by" value={value.by} onChange={change('by')}>
            <option value="cron">at times</option>
            <option value="every">every so often</option>
          </select>
        </Field>
        {value.by === 'cron'
          ? input('cron', 'expression', '[second] minute hour day month weekday', '30 3 * * *')
          : input('every', 'every', 'such as 90s, 15m or 1d', '5m')}
        {value.by === 'cron' && input('zone', 'zone', 'type to search', 'Europe/Lisbon', 'zones')}
      </div>
      <Follows value={value} told={told} shown={shown} />
      <div className={grid}>
        {!batch && (
          <>
            {input('task', 'task', 'what is to be done', 'tide.predict', 'tasks')}
            {input('queue', 'queue', 'of its task, or common, where it is empty', 'common')}
            <Field label="payload" hint={problem ?? 'any JSON'} wrong={!!problem}>
              <textarea
                className="block w-full rounded-sm border border-quiet bg-ground p-1 font-mono text-[13px]"
                name="payload"
                rows={Math.min(8, value.payload.split('\n').length + 1)}
                spellCheck={false}
                value={value.payload}
                onChange={change('payload')}
              />
            </Field>
          </>
        )}
        {input('spread', 'spread', 'schedules of one time come apart by up to this', '0s')}
        {input('note', 'note', 'for people')}
      </div>
      <datalist id="zones">
        {Intl.supportedValuesOf('timeZone').map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <datalist id="tasks">
        {tasks.map((t) => (
          <option key={t.name} value={t.name} />
        ))}
      </datalist>
      <Choice
        name="if_still_running"
        legend="Where the last run is not over"
        value={value.if_still_running}
        set={(word) => set({ ...value, if_still_running: word })}
        options={[
          { word: 'skip', says: 'the new one is left out', drawing: <Meeting second={null} /> },
          { word: 'wait', says: 'the new one waits, one at most', drawing: <Meeting second={[46, 26, 8]} /> },
          { word: 'also', says: 'the new one runs beside it', drawing: <Meeting second={[28, 26, 15]} /> },
        ]}
      />
      {value.if_still_running !== 'also' && (
        <p className="text-[13px] text-quiet">
          A last run that waits for its next attempt dies as superseded, and the new one takes its place.
        </p>
      )}
      <Choice
        name="missed"
        legend="Times that could not be kept, such as while the service was away"
        value={value.missed}
        set={(word) => set({ ...value, missed: word })}
        options={[
          { word: 'skip', says: 'are left out', drawing: <Away made={0} /> },
          { word: 'once', says: 'are made up for by one run', drawing: <Away made={1} /> },
          { word: 'all', says: 'are each made up for, to 1000', drawing: <Away made={3} /> },
        ]}
      />
      <div className={grid}>{input('late_limit', 'missed means', 'late by more than this', '1m')}</div>
    </>
  )
}

/** Follows says what a rule means, as the service reads it. */
function Follows({ value, told, shown }: { value: Entered; told: (valid: boolean) => void; shown: boolean }) {
  const [expr, every, zone] = useSettled(
    JSON.stringify(value.by === 'cron' ? [value.cron, '', value.zone] : ['', value.every, '']),
    200,
    (text) => JSON.parse(text) as [string, string, string],
  )
  const { data, error } = useCron(expr, every, zone)
  useEffect(() => told(!error), [error, told])
  if (!shown) return null
  if (error) {
    return (
      <p role="alert" className="pt-4 font-semibold">
        {error.message.replace('nothing was computed: ', '').replace(/^expr /, '')}.
      </p>
    )
  }
  if (!data) return <div className="min-h-[17rem]" />
  return (
    <div aria-live="polite" className="min-h-[17rem]">
      <p className="pt-4 text-lg">
        {data.summary}
        {expr && <span className="text-quiet">, {data.zone}</span>}
      </p>
      {expr && <p className="text-[13px] text-quiet">Read as {data.form}.</p>}
      <Times next={data.next} notes={data.notes} zone={expr ? data.zone : undefined} />
    </div>
  )
}

interface Option<T> {
  word: T
  says: string
  drawing: ReactNode
}

/** Choice is one of three, each with a small drawing of what it does. */
function Choice<T extends string>({
  name,
  legend,
  value,
  set,
  options,
}: {
  name: string
  legend: string
  value: T
  set: (word: T) => void
  options: Option<T>[]
}) {
  return (
    <fieldset className="mt-5">
      <legend className="pb-1 font-semibold">{legend}</legend>
      <div className="grid gap-3 sm:grid-cols-3">
        {options.map((o) => (
          <label key={o.word} className={`cursor-pointer border-t-2 pt-1 ${o.word === value ? 'border-accent' : 'border-hairline'}`}>
            <span className="flex items-baseline gap-2">
              <input type="radio" name={name} value={o.word} checked={o.word === value} onChange={() => set(o.word)} />
              {o.word}
            </span>
            {o.drawing}
            <span className="block text-[13px] text-quiet">{o.says}</span>
          </label>
        ))}
      </div>
    </fieldset>
  )
}

/** Meeting draws a run that is not over when the next is due: second is where the next one runs, as x, length and y. */
function Meeting({ second }: { second: [number, number, number] | null }) {
  return (
    <svg viewBox="0 0 100 30" className="my-1 w-full max-w-[9rem]" aria-hidden>
      <path d="M4 25h92" className="stroke-hairline" />
      {[6, 28, 76].map((x) => (
        <path key={x} d={`M${x} 22v6`} className="stroke-quiet" />
      ))}
      <rect x="6" y="8" width="38" height="5" className="fill-running" />
      {second && <rect x={second[0]} y={second[2]} width={second[1]} height="5" className="fill-running" opacity="0.6" />}
      {!second && <path d="M26 17h6" className="stroke-skipped" strokeWidth="2" />}
      <rect x="76" y="8" width="18" height="5" className="fill-running" />
    </svg>
  )
}

/** Away draws a time in which nothing is enqueued, and how many runs make up for it. */
function Away({ made }: { made: number }) {
  return (
    <svg viewBox="0 0 100 30" className="my-1 w-full max-w-[9rem]" aria-hidden>
      <rect x="18" y="2" width="46" height="26" className="fill-hairline" />
      <path d="M4 25h92" className="stroke-hairline" />
      {[8, 24, 40, 56, 88].map((x) => (
        <path key={x} d={`M${x} 22v6`} className="stroke-quiet" />
      ))}
      {[8, 88].map((x) => (
        <circle key={x} cx={x} cy="13" r="3" className="fill-done" />
      ))}
      {Array.from({ length: made }, (_, i) => (
        <circle key={i} cx={69} cy={13 - (made > 1 ? 7 : 0) + i * 7} r="3" className="fill-done" />
      ))}
    </svg>
  )
}
