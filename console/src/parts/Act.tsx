import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { newKey } from '../api/access'
import { type Operation, api, queryOf, selectionOf, told } from '../api/client'
import { keys } from '../api/keys'
import { grouped, localTimes } from '../lib/format'
import { type Action, type Target, actsOn, commands, outcomeOf, verbs } from '../lib/acts'
import { flagsOf } from '../lib/flags'
import { quoted } from '../lib/shell'
import { timeIn } from '../lib/when'
import { Asking } from './Question'
import { Why } from './Why'

/** What a form of changes sets; an empty field leaves what is there. */
interface Changes {
  priority: string
  queue: string
  run_at: string
}

/** patchOf is the merge patch of what was entered, and what is wrong with it. */
function patchOf(c: Changes): { patch: Record<string, unknown>; wrong?: string } {
  const patch: Record<string, unknown> = {}
  if (c.priority !== '') patch.priority = Number(c.priority)
  if (c.queue.trim() !== '') patch.queue = c.queue.trim()
  const startAt = timeIn(c.run_at)
  if (c.run_at !== '' && !startAt) return { patch, wrong: 'The start is not a valid time.' }
  if (startAt) patch.run_at = startAt
  return Object.keys(patch).length > 0 ? { patch } : { patch, wrong: 'Fill in what is to change.' }
}

/** ActOnMany asks before it acts on many jobs: how many, what follows, and what cannot be undone. */
export function ActOnMany({ action, target, close, acted }: { action: Action; target: Target; close: () => void; acted?: () => void }) {
  const [trial, setTrial] = useState(0)
  const [note, setNote] = useState('')
  const [changes, setChanges] = useState<Changes>({ priority: '', queue: '', run_at: '' })
  const { patch, wrong } = action === 'patch' ? patchOf(changes) : { patch: undefined, wrong: undefined }
  const body = {
    action,
    ...('ids' in target ? { ids: target.ids } : { filter: selectionOf(target.filter) }),
    ...(action === 'requeue' && trial > 0 ? { trial } : {}),
    ...(patch ? { patch } : {}),
  }
  const dry = useQuery({
    queryKey: keys.dryRun(body),
    queryFn: () => send({ ...body, dry_run: true }),
    enabled: !wrong,
    staleTime: 0,
    gcTime: 0,
  })
  const counted = useCount(target, action, dry.data)
  const n = counted.n ?? 0
  const jobs = counted.n === undefined ? 'jobs' : `${grouped(n)} ${n === 1 ? 'job' : 'jobs'}`
  const title = action === 'start_now' ? `Start ${jobs} now` : `${verbs[action]} ${jobs}`
  const which = 'ids' in target ? target.ids.map((id) => ` ${id}`).join('') : flagsOf(target.filter)
  const assignments = Object.entries(patch ?? {}).map(([k, v]) => ` ${quoted(`${k}=${String(v)}`)}`)
  return (
    <Asking
      close={close}
      title={title}
      follows={<Follows error={dry.error} wrong={wrong} dry={dry.data} counted={counted} />}
      confirm={trial > 0 && trial < n ? `Try ${trial}, then ${title.toLowerCase()}` : title}
      command={`hmule job ${commands[action]}${which}${assignments.join('')}${note ? ` --note ${quoted(note)}` : ''}`}
      blocked={!!wrong || !dry.data || dry.isFetching || !counted.all || n === 0}
      send={() => send({ ...body, ...(note ? { note } : {}) })}
      done={(answer) => {
        acted?.()
        return outcomeOf(answer as Operation)
      }}
    >
      {action === 'patch' && <ChangesForm value={changes} set={setChanges} />}
      {action === 'requeue' && n > 1 && (
        <label className="flex items-baseline gap-2">
          <span className="text-quiet">Try first</span>
          <input
            className="field w-16 text-right"
            type="number"
            min={0}
            max={Math.min(n, 100)}
            value={trial}
            onChange={(e) => setTrial(Math.max(0, Math.min(Number(e.target.value), 100)))}
          />
          <span className="text-quiet">of them; the rest follows when these are done. 0 for all at once.</span>
        </label>
      )}
      <Why value={note} set={setNote} />
    </Asking>
  )
}

function Follows({ error, wrong, dry, counted }: { error: Error | null; wrong?: string; dry?: Operation; counted: Counted }) {
  if (wrong) return <p>{wrong}</p>
  if (error) return <p role="alert">{error.message}.</p>
  if (!dry) return <p className="text-quiet">Counting …</p>
  return (
    <>
      {counted.error && <p role="alert">The jobs could not all be counted: {counted.error.message}. Close this, and try again.</p>}
      {!counted.all && !counted.error && (
        <p aria-live="polite" className="pb-1 font-semibold">
          {grouped(counted.n ?? 0)} so far; counting on …
        </p>
      )}
      {dry.follows?.map((text) => (
        <p key={text} className="pb-1">
          {localTimes(text)}
        </p>
      ))}
    </>
  )
}

function ChangesForm({ value, set }: { value: Changes; set: (c: Changes) => void }) {
  const field = (name: keyof Changes, label: string, hint: string, type: string) => (
    <label className="contents">
      <span className="text-quiet">{label}</span>
      <input
        className="field"
        type={type}
        min={type === 'number' ? 0 : undefined}
        max={type === 'number' ? 9 : undefined}
        value={value[name]}
        onChange={(e) => set({ ...value, [name]: e.target.value })}
      />
      <span className="text-[13px] text-quiet">{hint}</span>
    </label>
  )
  return (
    <div className="grid grid-cols-[max-content_13rem_minmax(0,1fr)] items-baseline gap-x-4 gap-y-1.5">
      {field('priority', 'priority', '0 to 9, the higher first', 'number')}
      {field('queue', 'queue', 'where they wait from then on', 'text')}
      {field('run_at', 'start at', 'not before, in your time zone', 'datetime-local')}
    </div>
  )
}

function send(body: object): Promise<Operation> {
  return told(api.POST('/v1/jobs/act', { params: { header: { 'Idempotency-Key': newKey() } }, body: body as { action: Action } }))
}

interface Counted {
  n?: number
  /** all is true once the count is whole. */
  all: boolean
  /** error is why it will not be. */
  error?: Error
}

/** useCount counts on where a dry run says only that there are at least so many. */
function useCount(target: Target, action: Action, dry?: Operation): Counted {
  const [more, setMore] = useState<Counted & { of: Operation }>()
  const filter = 'filter' in target ? target.filter : undefined
  useEffect(() => {
    if (!dry || !filter || dry.matched_is === 'exact') return
    const gone = new AbortController()
    const states = dry.filter?.state ?? actsOn[action]
    void (async () => {
      let n = 0
      for (let cursor: string | undefined; !gone.signal.aborted;) {
        const part = await told(
          api.GET('/v1/jobs/count', { params: { query: { ...queryOf(filter), state: states, cursor } }, signal: gone.signal }),
        )
        n += part.matched
        cursor = part.next_cursor
        setMore({ of: dry, n, all: !cursor })
        if (!cursor) return
      }
    })().catch((error: Error) => !gone.signal.aborted && setMore({ of: dry, n: dry.matched, all: false, error }))
    return () => gone.abort()
  }, [dry, filter, action])
  if (!dry) return { all: false }
  if (dry.matched_is === 'exact') return { n: dry.matched, all: true }
  return more?.of === dry ? more : { n: dry.matched, all: false }
}
