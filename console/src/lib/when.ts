// Times as people write them.

const dayOf = /^(today|yesterday|\d{4}-\d\d-\d\d)?\s*(?:(\d{1,2}):(\d\d)(?::(\d\d))?)?$/

/**
 * whenOf reads a time in the reader's zone, such as 14:02, yesterday 9:30, 2026-11-23 06:12 or RFC
 * 3339; a time of the day alone is the last such one. It gives nothing where it is none.
 */
export function whenOf(text: string, now = new Date()): Date | undefined {
  const trimmed = text.trim()
  if (/^\d{4}-\d\d-\d\dT/.test(trimmed)) {
    const at = new Date(trimmed)
    return Number.isNaN(at.getTime()) ? undefined : at
  }
  const [, day, hours, minutes, seconds] = dayOf.exec(trimmed.toLowerCase()) ?? []
  if (!day && !hours) return undefined
  const at = new Date(now)
  if (day?.includes('-')) {
    const [y, m, d] = day.split('-').map(Number)
    at.setFullYear(y!, m! - 1, d)
    if (at.getMonth() !== m! - 1 || at.getDate() !== d) return undefined
  } else if (day === 'yesterday') at.setDate(at.getDate() - 1)
  const [h, m, s] = [Number(hours ?? 0), Number(minutes ?? 0), Number(seconds ?? 0)]
  if (h > 23 || m > 59 || s > 59) return undefined
  at.setHours(h, m, s, 0)
  if (!day && at > now) at.setDate(at.getDate() - 1)
  return at
}

/** localOf writes a time as the field of a form has it, in the reader's zone. */
export function localOf(time?: string): string {
  if (!time) return ''
  const d = new Date(time)
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}

/** timeIn reads a time from such a field, in RFC 3339; nothing where it is none, or later than a year has four digits. */
export function timeIn(field: string): string | undefined {
  const at = new Date(field)
  return Number.isNaN(at.getTime()) || at.getUTCFullYear() > 9999 ? undefined : at.toISOString()
}
