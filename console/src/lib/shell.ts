// Commands as they are typed in a terminal.
import { type Filter, labelsOf, pairOf } from '../api/client'

/** quoted writes a word for a shell, in quotes where it needs them. */
export function quoted(word: string): string {
  return /^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", `'\\''`)}'`
}

/** flagsOf writes a filter as the flags of a command. */
export function flagsOf(f: Filter): string {
  const all: [string, string | undefined][] = [
    ['state', f.state],
    ['queue', f.queue],
    ['task', f.task],
    ['owner', f.owner],
    ['key', f.key],
    ['cause', f.cause],
    ['error', f.error],
    ['since', f.since],
    ['until', f.until],
    ...(labelsOf(f) ?? []).map((l): [string, string] => ['label', pairOf(l).join('=')]),
  ]
  return all.map(([name, value]) => (value ? ` --${name} ${quoted(value)}` : '')).join('')
}
