// Numbers, spans and times for people.

const narrow = '\u202f'

/** grouped writes a whole number in groups of three digits. */
export function grouped(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+$)/g, narrow)
}

/** ofSchedules says how many of a cause's jobs are superseded runs, and of how many schedules. */
export function ofSchedules(runs = 0, schedules = 0): string {
  return `${grouped(runs)} of them ${runs === 1 ? 'is a superseded run' : 'are superseded runs'} of ${schedules === 1 ? 'one schedule' : `${grouped(schedules)} schedules`}`
}

/** span writes milliseconds with their largest unit, as people say it. */
export function span(ms: number): string {
  const s = ms / 1000
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (s < 10) return `${s.toFixed(1)} s`
  if (s < 120) return `${Math.round(s)} s`
  if (s < 7200) return `${Math.round(s / 60)} min`
  if (s < 172800) return `${Math.round(s / 3600)} h`
  return `${Math.round(s / 86400)} days`
}

/** age says how long ago a time was, or in how long it is, to the second. */
export function age(time: string, now: number): string {
  const ms = now - Date.parse(time)
  if (Math.abs(ms) < 1000) return 'now'
  const whole = span(Math.floor(Math.abs(ms) / 1000) * 1000).replace('.0 s', ' s')
  return ms < 0 ? `in ${whole}` : `${whole} ago`
}

const two = (n: number) => String(n).padStart(2, '0')

/** clock writes a time of day in the reader's zone. */
export function clock(time: string | Date): string {
  const d = new Date(time)
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
}

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** day writes a day of the year in the reader's zone. */
export function day(d: Date): string {
  return `${d.getDate()} ${months[d.getMonth()]}`
}

/** moment writes date and time in the reader's zone; a time of today without its date. */
export function moment(time: string): string {
  const d = new Date(time)
  const now = new Date()
  if (d.toDateString() === now.toDateString()) return clock(d)
  return `${day(d)}${d.getFullYear() === now.getFullYear() ? '' : ` ${d.getFullYear()}`} ${clock(d)}`
}

/** zone names the reader's time zone. */
export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

/** localTimes puts the service's times within a sentence into the reader's zone. */
export function localTimes(text: string): string {
  return text.replace(/\d{4}-\d\d-\d\dT[\d:.]+Z/g, moment)
}

/** tries writes "3 of 17", or "3" where there is not a limit. */
export function tries(n: number, most: number): string {
  return most === 0 ? String(n) : `${n} of ${most}`
}

/** pretty writes JSON with line breaks. */
export function pretty(value: unknown): string {
  return JSON.stringify(value, null, 2)
}
