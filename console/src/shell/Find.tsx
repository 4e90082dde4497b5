import { useQuery } from '@tanstack/react-query'
import { type KeyboardEvent, useEffect, useId, useRef, useState } from 'react'
import { useNavigate } from 'react-router'

import { type Batch, type ScheduleStatus, type Task, type Worker, useStats, useTasks } from '../api/client'
import { keys } from '../api/keys'
import { search } from '../lib/address'
import { useBatches } from '../pages/batches/queries'
import { pages } from './pages'

type Choice = { what: string; name: string; to: string }

/** Find leads to pages, queues, workers, schedules and the latest batches by their names, finds a job by its id, or lists those with a key, of a task, a queue or an owner, with a label, or with a text in their errors. */
export function Find() {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(0)
  const field = useRef<HTMLInputElement>(null)
  const list = useId()
  const navigate = useNavigate()
  const queues = useStats().data?.queues.map((q) => q.name) ?? []
  const tasks = useTasks().data ?? []
  const workers = useQuery<Worker[]>({ queryKey: keys.workers.list, enabled: false }).data ?? []
  const schedules = useQuery<ScheduleStatus[]>({ queryKey: keys.schedules.list, enabled: false }).data ?? []
  const batches = useBatches(undefined, open && text !== '').data?.batches ?? []
  const choices = open ? choicesOf(text.trim(), { queues, tasks, workers, schedules, batches }) : []
  useEffect(() => {
    const focus = (e: globalThis.KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && e.target.closest('input, textarea, select, [role=dialog]')
      const palette = e.key.toLowerCase() === 'k' && (e.ctrlKey || e.metaKey) && !document.querySelector('[role=dialog]')
      const slash = e.key === '/' && !typing && !e.ctrlKey && !e.metaKey && !e.altKey
      if (!palette && !slash) return
      e.preventDefault()
      field.current?.focus()
    }
    addEventListener('keydown', focus)
    return () => removeEventListener('keydown', focus)
  }, [])
  const go = (c?: Choice) => {
    if (!c) return
    setText('')
    setOpen(false)
    field.current?.blur()
    void navigate(c.to)
  }
  const key = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key]
    if (by && choices.length > 0) {
      e.preventDefault()
      setAt((at + by + choices.length) % choices.length)
    } else if (e.key === 'Enter') go(choices[at] ?? choices[0])
    else if (e.key === 'Escape') {
      setOpen(false)
      field.current?.blur()
      e.stopPropagation()
    }
  }
  return (
    <div className="relative w-[236px] max-sm:w-full">
      <input
        ref={field}
        role="combobox"
        aria-label="Find"
        aria-expanded={choices.length > 0}
        aria-controls={list}
        aria-activedescendant={choices.length > 0 ? `${list}-${at}` : undefined}
        className="h-[30px] w-full rounded-[3px] border border-hairline bg-raised px-2.5 placeholder:text-quiet"
        placeholder="Find an id, key, task, owner, text"
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setAt(0)
          setOpen(true)
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={key}
      />
      <kbd aria-hidden className="pointer-events-none absolute top-[5px] right-2.5 text-quiet">
        /
      </kbd>
      {choices.length > 0 && (
        <ul
          id={list}
          role="listbox"
          aria-label="What to find"
          className="absolute right-0 left-0 z-20 mt-1 rounded-[3px] border border-hairline bg-raised py-1 shadow-sm"
        >
          {choices.map((c, i) => (
            <li
              key={c.what + c.name}
              id={`${list}-${i}`}
              role="option"
              aria-selected={i === at}
              className={`flex min-h-[28px] cursor-pointer items-baseline gap-2 px-2.5 py-1 ${i === at ? 'bg-ground' : ''}`}
              onMouseDown={(e) => {
                e.preventDefault()
                go(c)
              }}
            >
              <span className="w-16 shrink-0 text-quiet">{c.what}</span>
              <span className="truncate">
                <bdi>{c.name}</bdi>
              </span>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

interface Known {
  queues: string[]
  tasks: Task[]
  workers: Worker[]
  schedules: ScheduleStatus[]
  batches: Batch[]
}

/** byName gives the ids of workers by what they are called; where several have one name it is followed by the id. */
function byName(workers: Worker[]): Map<string, string> {
  const times = new Map<string, number>()
  for (const { name = '' } of workers) times.set(name, (times.get(name) ?? 0) + 1)
  return new Map(workers.map(({ id, name = '' }) => [name && times.get(name) === 1 ? name : `${name} ${id}`.trim(), id]))
}

/** How many of a kind are offered. */
const mostOfKind = 3

/** choicesOf are the ways to understand what was typed, the likeliest first. */
function choicesOf(text: string, known: Known): Choice[] {
  if (!text) return pages.map((p) => ({ what: 'page', name: p.name, to: p.to }))
  const all: Choice[] = []
  if (/^\d+$/.test(text)) all.push({ what: 'job', name: text, to: `/jobs/${text}` })
  const batch = known.batches.find((b) => String(b.id) === text)
  if (batch) all.push({ what: 'batch', name: text, to: `/batches/${text}` })
  const fitting = (what: string, names: string[], to: (name: string) => string) => {
    const fits = names.filter((name) => name.toLowerCase().includes(text.toLowerCase()))
    all.push(...fits.slice(0, mostOfKind).map((name) => ({ what, name, to: to(name) })))
  }
  const tasks = known.tasks.map((t) => t.name)
  fitting(
    'page',
    pages.map((p) => p.name),
    (name) => pages.find((p) => p.name === name)!.to,
  )
  fitting('jobs of', tasks, (task) => '/jobs' + search({ task }))
  fitting('jobs in', known.queues, (queue) => '/jobs' + search({ queue }))
  fitting('queue', known.queues, (name) => `/queues/${encodeURIComponent(name)}`)
  fitting(
    'schedule',
    known.schedules.map((s) => s.name),
    (name) => `/coming/${encodeURIComponent(name)}`,
  )
  const batches = new Map(known.batches.map((b) => [b.name ? `${b.name} ${b.id}` : String(b.id), b.id]))
  fitting(
    'batch',
    [...batches.keys()].filter((name) => name !== text),
    (name) => `/batches/${batches.get(name)}`,
  )
  const workers = byName(known.workers)
  fitting('worker', [...workers.keys()], (name) => `/workers/${workers.get(name)}`)
  if (/^[^:=\s]+[:=].+$/.test(text)) all.push({ what: 'label', name: text, to: '/jobs' + search({ label: text }) })
  all.push({ what: 'key', name: text, to: '/jobs' + search({ key: text }) })
  all.push({ what: 'owner', name: text, to: '/jobs' + search({ owner: text }) })
  all.push({ what: 'error', name: text, to: '/jobs' + search({ error: text }) })
  return all
}
