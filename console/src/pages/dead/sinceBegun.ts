import type { Cause } from '../../api/client'

/** sinceBegun are the failures of a cause since it began: by the hour where the last 48 hours reach back so far, else by the day. */
export function sinceBegun(c: Cause, now: number): { counts: number[]; words: string } {
  const [hours, days] = [c.hours ?? [], c.days ?? []]
  const age = now - Date.parse(c.first_at)
  const byDay = age > hours.length * 3_600_000
  const [all, each, word] = byDay ? [days, 86_400_000, 'day'] : [hours, 3_600_000, 'hour']
  const n = Math.min(all.length, Math.max(Math.ceil(age / each) + 1, 6))
  return { counts: all.slice(-n), words: `${n} ${word}s` }
}
