import { useMutation } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { type ReactNode, useState } from 'react'

import { queryClient } from '../api/client'
import { Copyable } from './Copyable'
import { announce } from '../lib/announce'

export interface Asked {
  /** title is the verb with its object, as the button says it. */
  title: string
  /** follows says how many are touched, what follows, and what cannot be undone. */
  follows: ReactNode
  /** confirm is the verb with its object and number. */
  confirm: string
  /** command does the same from a terminal. */
  command: string
  send: () => Promise<unknown>
  /** done says what was done, and where more of it stands; nothing is said where it is left out. */
  done?: (answer: unknown) => { text: string; to?: string }
  /** blocked is true while what was entered cannot be sent. */
  blocked?: boolean
  children?: ReactNode
}

/** Question is the button of an action, and the dialog that says what follows before it is done. */
export function Question(asked: Asked) {
  const [open, setOpen] = useState(false)
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">{asked.title}</Dialog.Trigger>
      {open && <Dialogue {...asked} close={() => setOpen(false)} />}
    </Dialog.Root>
  )
}

/** Asking is a question without a button of its own; it is open as long as it is there. */
export function Asking({ close, ...asked }: Asked & { close: () => void }) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <Dialogue {...asked} close={close} />
    </Dialog.Root>
  )
}

function Dialogue(asked: Asked & { close: () => void }) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
      <Dialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[90vh] w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded bg-raised p-6 shadow-xl">
        <Form {...asked} />
      </Dialog.Content>
    </Dialog.Portal>
  )
}

function Form({ title, follows, confirm, command, send, done, blocked, children, close }: Asked & { close: () => void }) {
  const act = useMutation({
    mutationFn: send,
    networkMode: 'always',
    onSuccess: (answer) => {
      const said = done?.(answer)
      if (said) announce(said.text, said.to)
      close()
      void queryClient.invalidateQueries()
    },
  })
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault()
        act.mutate()
      }}
    >
      <Dialog.Title className="text-lg font-semibold break-words">{title}</Dialog.Title>
      <Dialog.Description asChild>
        <div className="py-3">{follows}</div>
      </Dialog.Description>
      {children}
      {act.error && <p role="alert">{act.error.message}. Nothing was changed.</p>}
      <div className="mt-3 text-quiet">
        The same from a terminal:
        <Copyable command={command} />
      </div>
      <div className="mt-5 flex justify-end gap-3">
        <Dialog.Close type="button" className="button">
          {title.startsWith('Cancel') ? 'Go back' : 'Cancel'}
        </Dialog.Close>
        <button type="submit" className="button button-main" disabled={act.isPending || blocked}>
          {act.isPending ? 'On its way …' : confirm}
        </button>
      </div>
    </form>
  )
}
