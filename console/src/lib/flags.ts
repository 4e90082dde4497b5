// A filter as the flags of a command.
import { type Filter, labelsOf, pairOf } from '../api/client'
import { quoted } from './shell'

/** flagsOf writes a filter as the flags of a command. */
export function flagsOf(f: Filter): string {
  const all: [string, string | undefined][] = [
    ['state', f.state],
    ['queue', f.queue],
    ['task', f.task],
    ['owner', f.owner],
    ['key', f.key],
    ['worker', f.worker],
    ['batch', f.batch],
    ['cause', f.cause],
    ['error', f.error],
    ['since', f.since],
    ['until', f.until],
    ...(labelsOf(f) ?? []).map((l): [string, string] => ['label', pairOf(l).join('=')]),
  ]
  return all.map(([name, value]) => (value ? ` --${name} ${quoted(value)}` : '')).join('')
}
