import { grouped } from '../lib/format'

/** From more entries than this on, a list can be searched. */
const searchable = 12

/** SearchField narrows a long list to what has the text sought; a short list needs none. */
export function SearchField({ among, what, sought, seek }: { among: number; what: string; sought: string; seek: (text: string) => void }) {
  if (among <= searchable) return null
  return (
    <input
      type="search"
      aria-label={`Search the ${what}`}
      placeholder={`Search ${grouped(among)} ${what}`}
      className="mt-2 h-[30px] w-72 rounded-[3px] border border-hairline bg-raised px-2.5 placeholder:text-quiet"
      value={sought}
      onChange={(e) => seek(e.target.value)}
    />
  )
}
