/** What lists share that open one of their rows beside them. */

/** besideOpen lays out a list, with room beside it where one of its rows is open. */
export const besideOpen = (open: boolean) =>
  open ? 'grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,34rem)] 2xl:grid-cols-[minmax(0,1fr)_minmax(0,44rem)]' : ''

/** wholeTable is a table as wide as its place, and tableHead its first row. */
export const wholeTable = 'w-full table-fixed border-collapse'
export const tableHead = 'h-[32px] border-b border-hairline [&>th]:pr-5 [&>th]:font-normal [&>th]:whitespace-nowrap'
