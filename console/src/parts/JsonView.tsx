import { useState } from 'react'

import { pretty } from '../lib/format'

/** JsonView shows a value with parts that fold, a search within it, and its text to copy. */
export function JsonView({ name, value, bytes }: { name: string; value: unknown; bytes?: number }) {
  const [sought, setSought] = useState('')
  const [said, setSaid] = useState('Copy')
  const text = pretty(value)
  const large = text.length > 400
  const copy = () => {
    navigator.clipboard.writeText(text).then(
      () => setSaid('Copied'),
      () => setSaid('Select it to copy'),
    )
    setTimeout(() => setSaid('Copy'), 2000)
  }
  return (
    <section aria-label={name} className="mt-6">
      <div className="flex items-baseline gap-4 border-b border-hairline pb-1">
        <h3 className="font-semibold">
          {name}
          {bytes !== undefined && <span className="font-normal text-quiet"> {bytes} bytes</span>}
        </h3>
        {large && (
          <input
            type="search"
            aria-label={`Search the ${name.toLowerCase()}`}
            placeholder="Search"
            className="field ml-auto w-40 placeholder:text-quiet"
            value={sought}
            onChange={(e) => setSought(e.target.value)}
          />
        )}
        <button type="button" className={`press ${large ? '' : 'ml-auto'}`} onClick={copy} aria-label={`Copy the ${name.toLowerCase()}`}>
          {said}
        </button>
      </div>
      {sought && !text.toLowerCase().includes(sought.toLowerCase()) && <p className="pt-2 text-quiet">“{sought}” is not in it.</p>}
      <div className="max-h-96 overflow-auto py-2 font-mono text-[13px] leading-snug" tabIndex={0}>
        <Value value={value} sought={sought.toLowerCase()} depth={0} />
      </div>
    </section>
  )
}

/** isRaw tells a number whose digits are kept; see exact in the API. */
function isRaw(value: object): boolean {
  return (JSON as unknown as { isRawJSON?: (v: object) => boolean }).isRawJSON?.(value) ?? false
}

/** How many parts of a list or an object are drawn at once. */
const drawnAtOnce = 100

function Value({ value, sought, depth }: { value: unknown; sought: string; depth: number }) {
  if (value === null || typeof value !== 'object' || isRaw(value)) return <Found text={JSON.stringify(value)} sought={sought} />
  const entries = Object.entries(value as Record<string, unknown>)
  if (entries.length === 0) return <>{Array.isArray(value) ? '[]' : '{}'}</>
  const holds = sought !== '' && JSON.stringify(value).toLowerCase().includes(sought)
  return <Parts key={String(holds)} value={value} entries={entries} sought={sought} depth={depth} open={holds || depth < 2} />
}

/** Parts draws what is in a list or an object, and only while it is open: a large payload costs no more than what is seen of it. */
function Parts({
  value,
  entries,
  sought,
  depth,
  open,
}: {
  value: object
  entries: [string, unknown][]
  sought: string
  depth: number
  open: boolean
}) {
  const [shown, setShown] = useState(open)
  const [most, setMost] = useState(drawnAtOnce)
  const found = sought === '' ? entries : entries.filter(([k, v]) => JSON.stringify([k, v]).toLowerCase().includes(sought))
  const drawn = found.length > 0 ? found : entries
  return (
    <details open={shown} onToggle={(e) => setShown(e.currentTarget.open)} className="inline-block w-full align-top">
      <summary className="text-quiet marker:text-[10px]">
        {Array.isArray(value) ? `list of ${entries.length}` : `${entries.length} ${entries.length === 1 ? 'field' : 'fields'}`}
      </summary>
      {shown && (
        <ul className="border-l border-hairline pl-4">
          {drawn.slice(0, most).map(([k, v]) => (
            <li key={k} className="break-words">
              <span className="text-quiet">
                <Found text={k} sought={sought} />:{' '}
              </span>
              <Value value={v} sought={sought} depth={depth + 1} />
            </li>
          ))}
          {drawn.length > most && (
            <li>
              <button type="button" className="press" onClick={() => setMost(most + 10 * drawnAtOnce)}>
                Show more of {drawn.length}
              </button>
            </li>
          )}
        </ul>
      )}
    </details>
  )
}

function Found({ text, sought }: { text: string; sought: string }) {
  const at = sought ? text.toLowerCase().indexOf(sought) : -1
  if (at < 0) return <>{text}</>
  return (
    <>
      {text.slice(0, at)}
      <mark className="bg-accent text-raised">{text.slice(at, at + sought.length)}</mark>
      {text.slice(at + sought.length)}
    </>
  )
}
