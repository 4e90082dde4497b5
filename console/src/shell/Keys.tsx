import { Dialog } from 'radix-ui'
import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'

import { pages } from './pages'

/** How long after g its letter may come. */
const within = 1500

const others = [
  ['/ or Ctrl K', 'find a job, a queue, a task, an error, or a page'],
  ['↑ ↓', 'go through a list, once one of its rows has the focus'],
  ['Enter', 'open the row beside the list'],
  ['Space', 'choose the row, on its box; with Shift all up to it'],
  ['Esc', 'close what was opened last: a dialog, then the panel'],
  ['?', 'show these keys'],
] as const

/** isTyping tells whether keys belong to a field or a dialog. */
function isTyping(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && !!target.closest('input:not([type=checkbox]), textarea, select, [role=dialog], [role=menu]')
}

/** Keys leads to pages by g and a letter, and shows all keys. */
export function Keys() {
  const [shown, setShown] = useState(false)
  const navigate = useNavigate()
  useEffect(() => {
    let begun = 0
    const press = (e: KeyboardEvent) => {
      if (isTyping(e.target) || e.ctrlKey || e.metaKey || e.altKey) return
      if (e.key === '?') setShown(true)
      const page = Date.now() - begun < within ? pages.find((p) => p.letter === e.key) : undefined
      begun = e.key === 'g' && !page ? Date.now() : 0
      if (!page) return
      e.preventDefault()
      void navigate(page.to)
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [navigate])
  return (
    <Dialog.Root open={shown} onOpenChange={setShown}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-30 max-h-[90vh] w-[min(34rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded bg-raised p-6 shadow-xl"
        >
          <Dialog.Title className="pb-2 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[7rem_minmax(0,1fr)] gap-x-4 gap-y-1">
            {pages.map((p) => (
              <Key key={p.to} keys={`g ${p.letter}`} does={`go to ${p.name}`} />
            ))}
            {others.map(([keys, does]) => (
              <Key key={keys} keys={keys} does={does} />
            ))}
          </dl>
          <div className="mt-4 flex justify-end">
            <Dialog.Close className="button">Close</Dialog.Close>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function Key({ keys, does }: { keys: string; does: string }) {
  return (
    <>
      <dt>
        <kbd className="font-mono text-[13px]">{keys}</kbd>
      </dt>
      <dd>{does}</dd>
    </>
  )
}
