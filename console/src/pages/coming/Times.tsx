import type { Instant } from '../../api/client'
import { zone as here } from '../../lib/format'

/** local writes a moment by the reader's clock, in the order of the others. */
function local(utc: string): string {
  return new Date(utc).toLocaleString('sv')
}

/** Times lists the next times of a rule by its own zone, in UTC and here, with what changes of the clocks do to them. */
export function Times({ next, notes, zone }: { next: Instant[]; notes: string[]; zone?: string }) {
  const own = zone && zone !== here && zone !== 'UTC'
  const whole = next.every((n) => n.utc.slice(17, 19) === '00')
  const from = own ? 5 : 0 // the year stands in the first column
  const short = (text: string) => (whole ? text.replace(/(\d\d:\d\d):00/, '$1') : text)
  return (
    <section aria-label="Next times" className="mt-5">
      <h3 className="border-b border-hairline pb-1 font-semibold">Next times</h3>
      {next.length === 0 && <p className="py-2">None comes any more.</p>}
      {next.length > 0 && (
        <table className="w-full border-collapse">
          <thead className="text-left text-[13px] text-quiet">
            <tr className="h-[28px] border-b border-hairline whitespace-nowrap [&>th]:pr-5 [&>th]:font-normal">
              {own && <th>{zone}</th>}
              <th>UTC</th>
              {here !== 'UTC' && <th>here, {here}</th>}
            </tr>
          </thead>
          <tbody>
            {next.slice(0, 5).map((n) => (
              <tr key={n.utc} className="h-[28px] border-b border-hairline whitespace-nowrap [&>td]:pr-5">
                {own && <td>{short(n.local)}</td>}
                <td>{short(n.utc.slice(from, 19).replace('T', ' '))}</td>
                {here !== 'UTC' && <td>{short(local(n.utc).slice(from))}</td>}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {notes.map((n) => (
        <p key={n} className="pt-2">
          {n}
        </p>
      ))}
    </section>
  )
}
