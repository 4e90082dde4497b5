import type { ReactNode } from 'react'

import { announce } from '../lib/announce'
import { exportList } from '../lib/download'
import { Menu } from './Menu'

/** Heading names a page's list, answers the page's question, and gives the list as a file. */
export function Heading({
  title,
  list,
  empty,
  acts,
  children,
}: {
  title: string
  list: string
  empty?: boolean
  /** acts are what can be done besides. */
  acts?: ReactNode
  children: ReactNode
}) {
  return (
    <div className="flex items-start gap-x-6 gap-y-2 border-b border-hairline pb-2 max-sm:flex-wrap">
      <div className="min-w-0 flex-1 max-sm:min-w-[15rem]">
        <h2 className="text-lg font-semibold">{title}</h2>
        <p className="max-w-[80ch] break-words">{children}</p>
      </div>
      <div className="flex flex-wrap justify-end gap-x-4 gap-y-2">
        {!empty && <Export list={list} what={title.toLowerCase()} />}
        {acts}
      </div>
    </div>
  )
}

/** Export gives a list, as the service tells it at an address, to the reader as a file. */
export function Export({ list, what }: { list: string; what: string }) {
  const file = (format: 'csv' | 'jsonl') =>
    exportList(list, format).then(
      () => announce(`Exported: ${what}.`),
      (e: Error) => announce(`Nothing was exported: ${e.message}`),
    )
  return (
    <Menu
      label="Export"
      items={[
        { text: 'CSV', hint: 'for spreadsheets', do: () => void file('csv') },
        { text: 'JSON Lines', hint: 'for programs', do: () => void file('jsonl') },
      ]}
    />
  )
}
