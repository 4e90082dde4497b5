import { DropdownMenu } from 'radix-ui'
import type { ReactNode } from 'react'

export interface Item {
  text: string
  /** hint says more of it. */
  hint?: string
  do: () => void
}

/** Menu is a button with things to do. */
export function Menu({ label, items, children }: { label: ReactNode; items: Item[]; children?: ReactNode }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="button">
        {label}{' '}
        <span aria-hidden className="text-[10px]">
          ▾
        </span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          className="z-30 min-w-[13rem] rounded-[3px] border border-hairline bg-raised p-1 shadow-sm"
        >
          {items.map((item) => (
            <DropdownMenu.Item
              key={item.text}
              className="flex min-h-[30px] cursor-pointer items-baseline gap-4 rounded-[3px] px-2.5 py-1 outline-none data-[highlighted]:bg-ground"
              onSelect={item.do}
            >
              <span>{item.text}</span>
              {item.hint && <span className="ml-auto text-[13px] text-quiet">{item.hint}</span>}
            </DropdownMenu.Item>
          ))}
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}
