import { AlertDialog } from 'radix-ui'
import { useEffect } from 'react'
import { useBlocker } from 'react-router'

import { anyUnsaved, forgetUnsaved } from '../lib/unsaved'

/** Leave asks before a form is left whose changes are not saved. */
export function Leave() {
  const blocker = useBlocker(({ currentLocation, nextLocation }) => anyUnsaved() && currentLocation.pathname !== nextLocation.pathname)
  useEffect(() => {
    const ask = (e: BeforeUnloadEvent) => anyUnsaved() && e.preventDefault()
    addEventListener('beforeunload', ask)
    return () => removeEventListener('beforeunload', ask)
  }, [])
  if (blocker.state !== 'blocked') return null
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && blocker.reset()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 z-30 w-[min(28rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 rounded bg-raised p-6 shadow-xl">
          <AlertDialog.Title className="text-lg font-semibold">Leave without saving?</AlertDialog.Title>
          <AlertDialog.Description className="py-3">What you have changed in this form is not saved.</AlertDialog.Description>
          <div className="mt-3 flex justify-end gap-3">
            <AlertDialog.Cancel className="button">Stay here</AlertDialog.Cancel>
            <button
              type="button"
              className="button button-main"
              onClick={() => {
                forgetUnsaved()
                blocker.proceed()
              }}
            >
              Discard my changes
            </button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}
