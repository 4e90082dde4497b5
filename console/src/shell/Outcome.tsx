import { Link } from 'react-router'

import { quiet, useSaid } from '../lib/announce'

/** Outcome says what has just been done, at the foot of the page for a moment. */
export function Outcome() {
  const said = useSaid()
  return (
    <div role="status" aria-live="polite" className="fixed bottom-4 left-1/2 z-40 -translate-x-1/2">
      {said && (
        <p className="flex max-w-[calc(100vw-2rem)] items-baseline gap-4 rounded-[3px] bg-ink px-4 py-2 text-ground shadow-lg">
          <bdi className="break-words">{said.text}</bdi>
          {said.to && (
            <Link className="shrink-0 underline underline-offset-2" to={said.to} onClick={quiet}>
              See it
            </Link>
          )}
          <button type="button" className="min-h-[24px] min-w-[24px] shrink-0" aria-label="Dismiss" onClick={quiet}>
            ×
          </button>
        </p>
      )}
    </div>
  )
}
