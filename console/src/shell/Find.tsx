import { type KeyboardEvent, useEffect, useId, useRef, useState } from 'react'
import { useNavigate } from 'react-router'

import { type Task, useStats, useTasks } from '../api/client'
import { search } from '../lib/address'

type Choice = { what: string; name: string; to: string }

/** Find finds a job by its id, or lists those with a key, of a task, a queue or an owner, with a label, or with a text in their errors. */
export function Find() {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(0)
  const field = useRef<HTMLInputElement>(null)
  const list = useId()
  const navigate = useNavigate()
  const queues = useStats().data?.queues.map((q) => q.name) ?? []
  const tasks = useTasks().data ?? []
  const choices = open ? choicesOf(text.trim(), queues, tasks) : []
  useEffect(() => {
    const focus = (e: globalThis.KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && e.target.closest('input, textarea, select, [role=dialog]')
      if (e.key !== '/' || typing || e.ctrlKey || e.metaKey || e.altKey) return
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
        aria-label="Find jobs"
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
              <span className="w-14 shrink-0 text-quiet">{c.what}</span>
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

/** choicesOf are the ways to understand what was typed, the likeliest first. */
function choicesOf(text: string, queues: string[], tasks: Task[]): Choice[] {
  if (!text) return []
  const all: Choice[] = []
  if (/^\d+$/.test(text)) all.push({ what: 'job', name: text, to: `/jobs/${text}` })
  const most = 4
  const fits = (name: string) => name.toLowerCase().includes(text.toLowerCase())
  for (const t of tasks.filter((t) => fits(t.name)).slice(0, most))
    all.push({ what: 'task', name: t.name, to: '/jobs' + search({ task: t.name }) })
  for (const q of queues.filter(fits).slice(0, most)) all.push({ what: 'queue', name: q, to: '/jobs' + search({ queue: q }) })
  if (/^[^:\s]+:[^:]+$/.test(text)) all.push({ what: 'label', name: text, to: '/jobs' + search({ label: text }) })
  all.push({ what: 'key', name: text, to: '/jobs' + search({ key: text }) })
  all.push({ what: 'owner', name: text, to: '/jobs' + search({ owner: text }) })
  all.push({ what: 'error', name: text, to: '/jobs' + search({ error: text }) })
  return all
}
