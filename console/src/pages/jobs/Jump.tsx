import { useState } from 'react'

import type { Filter } from '../../api/client'
import { useGo } from '../../lib/address'
import { moment } from '../../lib/format'
import { whenOf } from '../../lib/when'

/** Jump goes to a place within the list: to a job by its id, or to a time. */
export function Jump() {
  const go = useGo()
  const [text, setText] = useState('')
  const [wrong, setWrong] = useState(false)
  return (
    <form
      className="flex items-baseline gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        const from = /^\d+$/.test(text.trim()) ? text.trim() : whenOf(text)?.toISOString()
        setWrong(!from)
        if (!from) return
        setText('')
        go({ from })
        scrollTo(0, 0)
      }}
    >
      {wrong && (
        <span role="alert" className="text-[13px]">
          Write an id, or a time such as 14:02 or 2026-11-23 06:12
        </span>
      )}
      <input
        aria-label="Go to an id or a time in the list"
        aria-invalid={wrong}
        placeholder="Go to id or time"
        className="h-[28px] w-36 rounded-full border border-hairline bg-ground px-3 placeholder:text-quiet"
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setWrong(false)
        }}
      />
    </form>
  )
}

/** Begins says with which job a list begins that does not begin with the first one, and leads back. */
export function Begins({ filter: { from, order } }: { filter: Filter }) {
  const go = useGo()
  if (!from) return null
  const oldest = order === 'oldest'
  return (
    <p role="note" className="flex flex-wrap gap-x-4 border-b border-hairline py-1.5">
      <span>
        {/^\d+$/.test(from) ? `From job ${from} on` : `From ${moment(from)} on`}, {oldest ? 'newer ones' : 'older ones'} follow.
      </span>
      <button type="button" className="press" onClick={() => go({ from: undefined })}>
        Back to the {oldest ? 'oldest' : 'newest'}
      </button>
    </p>
  )
}
