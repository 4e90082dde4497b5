import { useMutation } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { useState } from 'react'

import { type Job, api, queryClient, told } from './api/client'
import { Copyable } from './Copyable'
import { pretty } from './format'

export type Deed = 'requeue' | 'cancel' | 'start'

const verbs = { requeue: 'Requeue', cancel: 'Cancel', start: 'Start' } as const

/** Ask is a button and the dialog that says what follows before it is done. */
export function Ask({ deed, j }: { deed: Deed; j: Job }) {
  const [open, setOpen] = useState(false)
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">{verbs[deed]} job {j.id}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[90vh] w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded bg-raised p-6 shadow-xl">
          <Form deed={deed} j={j} close={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function follows(deed: Deed, j: Job): string {
  if (deed === 'requeue') {
    const kept = j.attempt === 0 ? '' : j.attempt === 1 ? ' Its 1 attempt stays on record.' : ` Its ${j.attempt} attempts stay on record.`
    return `1 job begins round ${j.round + 1}: it becomes ready in queue ${j.queue}, with all ${j.max_attempts || ''} tries before it.${kept} It can be cancelled again while it is not done.`
  }
  if (deed === 'start') {
    const instead = j.state === 'backoff' ? `its try ${j.tries + 1} begins as soon as a worker takes it, instead of waiting for its backoff` : 'it begins as soon as a worker takes it, instead of waiting for its time'
    return `1 job becomes ready in queue ${j.queue}: ${instead}. This cannot be taken back, but the job can be cancelled.`
  }
  if (j.state === 'running') return '1 job is asked to end. Its handler may still finish it as done; anything else makes it cancelled. What the handler has done already is not undone.'
  return '1 job is cancelled: it will not run. It can be requeued later.'
}

function Form({ deed, j, close }: { deed: Deed; j: Job; close: () => void }) {
  const before = pretty(j.payload ?? null)
  const [text, setText] = useState(before)
  const edited = deed === 'requeue' && text !== before
  const wrong = edited ? problemOf(text) : undefined
  const act = useMutation({
    mutationFn: () => send(deed, j.id, edited ? text : undefined),
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
      <Dialog.Title className="text-lg font-semibold">
        {verbs[deed]} job {j.id}
      </Dialog.Title>
      <Dialog.Description className="py-3">{follows(deed, j)}</Dialog.Description>
      {deed === 'requeue' && (
        <label className="block">
          <span className="text-quiet">Payload, which you may change first</span>
          <textarea className="mt-1 block w-full rounded-sm border border-quiet bg-ground p-2 font-mono text-[13px]" rows={Math.min(12, before.split('\n').length + 1)} spellCheck={false} value={text} onChange={(e) => setText(e.target.value)} />
        </label>
      )}
      {wrong && <p role="alert">The payload is no JSON: {wrong}</p>}
      {act.error && <p role="alert">{act.error.message}. Nothing was changed.</p>}
      <Same deed={deed} j={j} text={edited && !wrong ? text : undefined} />
      <div className="mt-5 flex justify-end gap-3">
        <Dialog.Close type="button" className="button">
          Leave it as it is
        </Dialog.Close>
        <button type="submit" className="button button-main" disabled={act.isPending || !!wrong}>
          {act.isPending ? 'On its way …' : `${verbs[deed]} 1 job`}
        </button>
      </div>
    </form>
  )
}

/** Same shows what does the same from a terminal. */
function Same({ deed, j, text }: { deed: Deed; j: Job; text?: string }) {
  const payload = text === undefined ? '' : ` --payload '${compact(text).replaceAll("'", `'\\''`)}'`
  const command = `hmule ${deed} ${j.id}${payload}`
  return (
    <div className="mt-3 text-quiet">
      The same from a terminal:
      <Copyable command={command} />
    </div>
  )
}

function compact(text: string): string {
  return text.replace(/\n\s*/g, '')
}

function problemOf(text: string): string | undefined {
  try {
    JSON.parse(text)
  } catch (e) {
    return (e as Error).message
  }
}

/** send does the deed. An edited payload goes as the text it is, so that its numbers keep their digits. */
function send(deed: Deed, id: number, payload?: string): Promise<Job> {
  const params = { path: { id }, header: { 'Idempotency-Key': crypto.randomUUID() } }
  if (deed === 'start') return told(api.POST('/v1/jobs/{id}/start_now', { params, body: {} }))
  if (deed === 'cancel') return told(api.POST('/v1/jobs/{id}/cancel', { params, body: {} }))
  return told(api.POST('/v1/jobs/{id}/requeue', { params, body: {}, bodySerializer: () => (payload === undefined ? '{}' : `{"payload":${payload}}`) }))
}
