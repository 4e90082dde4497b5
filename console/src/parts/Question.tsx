import { useMutation } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { type ReactNode, useState } from 'react'

import { queryClient } from '../api/client'
import { Copyable } from './Copyable'

interface Asked {
  /** title is the verb with its object, as the button says it. */
  title: string
  /** follows says how many are touched, what follows, and what cannot be undone. */
  follows: string
  /** confirm is the verb with its object and number. */
  confirm: string
  /** command does the same from a terminal. */
  command: string
  send: () => Promise<unknown>
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
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[90vh] w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded bg-raised p-6 shadow-xl">
          <Form {...asked} close={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function Form({ title, follows, confirm, command, send, blocked, children, close }: Asked & { close: () => void }) {
  const act = useMutation({
    mutationFn: send,
    networkMode: 'always',
    onSuccess: async () => {
      await queryClient.invalidateQueries()
      close()
    },
  })
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault()
        act.mutate()
      }}
    >
      <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
      <Dialog.Description className="py-3">{follows}</Dialog.Description>
      {children}
      {act.error && <p role="alert">{act.error.message}. Nothing was changed.</p>}
      <div className="mt-3 text-quiet">
        The same from a terminal:
        <Copyable command={command} />
      </div>
      <div className="mt-5 flex justify-end gap-3">
        <Dialog.Close type="button" className="button">
          Leave it as it is
        </Dialog.Close>
        <button type="submit" className="button button-main" disabled={act.isPending || blocked}>
          {act.isPending ? 'On its way …' : confirm}
        </button>
      </div>
    </form>
  )
}
