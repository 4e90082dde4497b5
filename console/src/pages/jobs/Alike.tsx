import { Varied } from '../../parts/Difference'

/** shown is how many errors stand side by side. */
const shown = 3

/** Alike sets errors side by side where they differ, with the words that do in a stronger ink. */
export function Alike({ errors }: { errors: { message: string; from: string }[] }) {
  const distinct = [...new Set(errors.map((e) => e.message))]
  if (distinct.length < 2) return null
  return (
    <section aria-label="How the errors differ" className="mt-6">
      <h3 className="border-b border-hairline pb-1 font-semibold">
        {distinct.length} different errors
        {distinct.length > shown && <span className="font-normal text-quiet">, the latest {shown} side by side</span>}
      </h3>
      <div className="grid gap-x-5 py-1.5" style={{ gridTemplateColumns: `repeat(${Math.min(distinct.length, shown)}, minmax(0, 1fr))` }}>
        {distinct.slice(-shown).map((message) => (
          <div key={message}>
            <p className="text-[13px] text-quiet">
              {errors
                .filter((e) => e.message === message)
                .map((e) => e.from)
                .slice(-4)
                .join(', ')}
            </p>
            <p className="break-words whitespace-pre-wrap">
              <Varied text={message} from={distinct.at(-1) === message ? distinct.at(-2)! : distinct.at(-1)!} />
            </p>
          </div>
        ))}
      </div>
    </section>
  )
}
