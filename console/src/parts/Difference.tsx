import { diffLines, diffWordsWithSpace } from 'diff'

import { pretty } from '../lib/format'

/** around is how many unchanged lines are shown beside a change. */
const around = 2

interface Line {
  sign: '+' | '−' | ' '
  text: string
}

function linesOf(before: string, after: string): Line[] {
  return diffLines(before + '\n', after + '\n').flatMap((part) =>
    part.value
      .replace(/\n$/, '')
      .split('\n')
      .map((text) => ({ sign: part.added ? '+' : part.removed ? '−' : ' ', text }) satisfies Line),
  )
}

/** Difference shows what was changed between two values, line by line. */
export function Difference({ before, after, name }: { before: unknown; after: unknown; name: string }) {
  const lines = linesOf(pretty(before), pretty(after))
  const changed = lines.map((l) => l.sign !== ' ')
  if (!changed.includes(true)) return <p className="py-1 text-quiet">No difference.</p>
  const near = (i: number) => changed.slice(Math.max(i - around, 0), i + around + 1).includes(true)
  return (
    <div role="region" aria-label={name} tabIndex={0} className="max-h-72 overflow-auto py-1 font-mono text-[13px] leading-snug">
      {lines.map((l, i) =>
        near(i) ? (
          <p key={i} className={`break-words whitespace-pre-wrap ${l.sign === ' ' ? 'text-quiet' : ''}`}>
            <span aria-label={l.sign === '+' ? 'added' : l.sign === '−' ? 'removed' : undefined}>{l.sign}</span>{' '}
            {l.sign === '−' ? <del className="decoration-quiet">{l.text}</del> : l.text}
          </p>
        ) : (
          i > 0 &&
          near(i - 1) && (
            <p key={i} className="text-quiet">
              …
            </p>
          )
        ),
      )}
    </div>
  )
}

/** Varied writes a text, the words in which it differs from another in a stronger ink. */
export function Varied({ text, from }: { text: string; from: string }) {
  if (text === from) return <>{text}</>
  return (
    <>
      {diffWordsWithSpace(from, text).map((part, i) =>
        part.removed ? null : part.added ? (
          <mark key={i} className="bg-transparent font-semibold text-ink underline decoration-hairline underline-offset-4">
            {part.value}
          </mark>
        ) : (
          part.value
        ),
      )}
    </>
  )
}
