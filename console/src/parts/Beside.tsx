import { type ReactNode, useEffect, useRef } from 'react'
import { Link, useNavigate } from 'react-router'

import { age, moment } from '../lib/format'

/** Beside is the panel beside a list while one of its rows is read. Escape closes it. */
export function Beside({ title, beside, back, children }: { title: string; beside?: ReactNode; back: string; children: ReactNode }) {
  const navigate = useNavigate()
  useEffect(() => {
    const close = (e: KeyboardEvent) => {
      if (e.key === 'Escape' && !document.querySelector('[role=dialog], [role=menu]') && !e.defaultPrevented) void navigate(back)
    }
    addEventListener('keydown', close)
    return () => removeEventListener('keydown', close)
  }, [back, navigate])
  const head = useRef<HTMLHeadingElement>(null)
  useEffect(() => {
    // The panel is reached before the list; when it is closed, what opened it has the focus again.
    const before = document.activeElement
    head.current?.focus({ preventScroll: true })
    return () => {
      if (before instanceof HTMLElement)
        requestAnimationFrame(() => document.activeElement === document.body && before.isConnected && before.focus())
    }
  }, [])
  return (
    <aside
      aria-label={title}
      className="mt-6 min-w-0 lg:sticky lg:top-14 lg:max-h-[calc(100vh-4rem)] lg:overflow-y-auto lg:border-l lg:border-hairline lg:pl-8"
    >
      <div className="flex items-baseline gap-4 border-b border-hairline pb-2">
        <h2 ref={head} tabIndex={-1} className="min-w-0 truncate text-lg font-semibold outline-none" title={title}>
          <bdi>{title}</bdi>
        </h2>
        {beside}
        <Link className="press ml-auto" to={back}>
          Close
        </Link>
      </div>
      {children}
    </aside>
  )
}

/** Fact is a name and its value in a list of facts; nothing where there is no value. */
export function Fact({ name, children }: { name: string; children?: ReactNode }) {
  if (children === undefined || children === null || children === false || children === '') return null
  return (
    <>
      <dt className="text-quiet">{name}</dt>
      <dd className="break-words">{children}</dd>
    </>
  )
}

/** When is a moment in a list of facts, with its age. */
export function When({ name, at, now }: { name: string; at?: string; now: number }) {
  if (!at) return null
  return (
    <Fact name={name}>
      <time dateTime={at} title={at}>
        {moment(at)}
      </time>{' '}
      <span className="text-quiet">{age(at, now)}</span>
    </Fact>
  )
}

/** fromFile says what becomes of a change of what a file defines. */
export const fromFile = 'A set-up file defines this: the next load of it sets it again, so change the file too.'

/** FromFile tells that a file defines what is shown. */
export function FromFile() {
  return (
    <p role="note" className="py-2 font-semibold">
      {fromFile}
    </p>
  )
}
