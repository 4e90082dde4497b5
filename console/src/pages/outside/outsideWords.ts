import type { EndpointStatus, HookStatus } from '../../api/client'

type Proof = HookStatus['proof']

/** proofWords say how the sender of a hook proves its deliveries. */
export function proofWords(p: Proof): string {
  switch (p.kind) {
    case 'standard':
      return 'Standard Webhooks'
    case 'hmac':
      return `HMAC, ${p.algorithm ?? 'sha256'}`
    case 'bearer':
      return 'bearer secret'
    case 'basic':
      return 'user and password'
    case 'none':
      return 'none'
  }
}

/** setBy says who sets a hook or an endpoint. */
export const setBy = { file: 'a set-up file', hand: 'hand' }

const reasons: Record<string, string> = {
  signature: 'the signature or the secret is wrong',
  timestamp: 'signed too long ago, or ahead',
  unproved: 'no proof, or from another machine',
  too_large: 'the body is too large',
  content_encoding: 'the body is compressed',
  secret_missing: 'the service cannot read the secret',
  busy: 'the service could not keep it',
}

/** reasonWords tell why a delivery was refused. */
export const reasonWords = (reason: string): string => reasons[reason] ?? reason

/** refused counts the deliveries that a hook has refused, whatever for. */
export const refused = (h: HookStatus): number => Object.values(h.counts.refused ?? {}).reduce((n, of) => n + of, 0)

/** takenWords say where a value of a job comes from. */
export function takenWords(t?: { value?: string; header?: string; pointer?: string }): string | undefined {
  if (!t) return undefined
  return t.value ?? (t.header ? `from header ${t.header}` : `from ${t.pointer} of the body`)
}

/** eventWords say which ends an endpoint is told, beside those of jobs that name it. */
export function eventWords(e: EndpointStatus): string[] {
  return (e.events ?? []).map((r) =>
    [
      r.on.join(', '),
      r.tasks && `of task ${r.tasks.join(', ')}`,
      r.queues && `in queue ${r.queues.join(', ')}`,
      r.owners && `of owner ${r.owners.join(', ')}`,
    ]
      .filter(Boolean)
      .join(' '),
  )
}

/** standing is how an endpoint stands, in a word. */
export function standing(e: EndpointStatus): 'paused' | 'failing' | 'fine' {
  if (e.paused_at) return 'paused'
  return e.failing_since ? 'failing' : 'fine'
}
