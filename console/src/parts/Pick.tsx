import { Popover } from 'radix-ui'
import { useState } from 'react'

import { pill, pillInk } from '../lib/pill'

/** From so many choices on there is a field to search them. */
const searchable = 9

/** Pick is a part of a filter that has any of some values; none of them means all. */
export function Pick({ name, value, among, pick }: { name: string; value?: string; among: readonly string[]; pick: (v?: string) => void }) {
  const [sought, setSought] = useState('')
  const chosen = value?.split(',').filter(Boolean) ?? []
  const all = [...chosen.filter((v) => !among.includes(v)), ...among]
  const shown = all.filter((v) => v.toLowerCase().includes(sought.toLowerCase()))
  const toggle = (v: string) => {
    const next = chosen.includes(v) ? chosen.filter((x) => x !== v) : [...chosen, v]
    pick(next.length > 0 ? next.join(',') : undefined)
  }
  const says = chosen.length === 0 ? 'all' : chosen.length <= 2 ? chosen.join(', ') : `${chosen.length} chosen`
  return (
    <Popover.Root onOpenChange={(open) => !open && setSought('')}>
      <Popover.Trigger className={`${pill} ${pillInk(chosen.length > 0)}`} aria-label={`Filter by ${name}: ${says}`}>
        <span className="truncate">
          {name}: <bdi>{says}</bdi>
        </span>
        <span aria-hidden className="text-[10px]">
          ▾
        </span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          aria-label={`Filter by ${name}`}
          className="z-30 max-h-[60vh] w-64 overflow-y-auto rounded-[3px] border border-hairline bg-raised p-1 shadow-sm"
        >
          {all.length >= searchable && (
            <input
              type="search"
              aria-label={`Search ${name}s`}
              placeholder={`Search ${name}s`}
              className="mb-1 h-[28px] w-full rounded-[3px] border border-hairline bg-ground px-2 placeholder:text-quiet"
              value={sought}
              onChange={(e) => setSought(e.target.value)}
              onKeyDown={(e) => e.key === 'Enter' && shown[0] && toggle(shown[0])}
            />
          )}
          {shown.slice(0, 200).map((v) => (
            <label key={v} className="flex min-h-[28px] cursor-pointer items-center gap-2 rounded-[3px] px-2 hover:bg-ground">
              <input type="checkbox" checked={chosen.includes(v)} onChange={() => toggle(v)} />
              <span className="truncate" title={v}>
                <bdi>{v}</bdi>
              </span>
            </label>
          ))}
          {shown.length === 0 && <p className="px-2 py-1 text-quiet">No {name} matches.</p>}
          {chosen.length > 0 && (
            <button type="button" className="press px-2 py-1" onClick={() => pick(undefined)}>
              All {name}s
            </button>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
