// Spans of time as an address tells them: ISO 8601 intervals.

/** Interval is when a span begins and ends, in RFC 3339. */
export type Interval = [string, string]

/** intervalOf reads an interval; nothing where it is none. */
export function intervalOf(text: string | null | undefined): Interval | undefined {
  const parts = text?.split('/') ?? []
  if (parts.length !== 2 || parts.some((t) => Number.isNaN(Date.parse(t)))) return undefined
  return Date.parse(parts[0]!) < Date.parse(parts[1]!) ? [parts[0]!, parts[1]!] : undefined
}

/** before is the interval of the same length that ends where one begins. */
export function before([from, to]: Interval): Interval {
  const begins = Date.parse(from)
  return [new Date(2 * begins - Date.parse(to)).toISOString(), from]
}
