import type { Alert, AlertSetup } from '../../api/client'

/** standing tells the state of an alert, and who is on it. */
export function standing(a: Alert): string {
  return a.state === 'seen' && a.seen_by ? `seen by ${a.seen_by}` : a.state
}

/** ofAlerts answers the page's question. */
export function ofAlerts(all: Alert[]): string {
  const open = all.filter((a) => a.state !== 'over')
  if (open.length === 0) return 'Nothing is wrong that a rule looks for.'
  const unseen = open.filter((a) => a.state === 'open')
  const says = open.length === 1 ? '1 alert is open' : `${open.length} alerts are open`
  if (unseen.length === 0) return `${says}; somebody has seen or muted ${open.length === 1 ? 'it' : 'all of them'}.`
  return unseen.length === open.length ? `${says} that nobody has seen.` : `${says}, ${unseen.length} of which nobody has seen.`
}

/** wayOf tells how somebody is told by a channel. */
export function wayOf(ch: AlertSetup['channels'][string]): string {
  if (ch.mail) return `mail to ${ch.mail.to.join(', ')}`
  if (ch.call) return `a call of ${ch.call.url}`
  if (ch.endpoint) return `endpoint ${ch.endpoint}`
  return `command ${ch.command ?? ''}`
}
