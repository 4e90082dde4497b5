import type { Batch, State } from '../../api/client'
import { Mark } from '../../parts/Mark'

const like: Record<Batch['state'], State> = { running: 'running', stuck: 'held', done: 'done', failed: 'dead', cancelled: 'cancelled' }

const means: Record<Batch['state'], string> = {
  running: 'Some of its jobs have not ended.',
  stuck: 'Nothing of it goes on until somebody acts.',
  done: 'All of its jobs were done.',
  failed: 'All of its jobs have ended, and some are dead or came too late.',
  cancelled: 'All of its jobs have ended, and some were cancelled.',
}

/** BatchWord is how a batch stands, with the mark of the state that is most like it. */
export function BatchWord({ state }: { state: Batch['state'] }) {
  return (
    <span className={`inline-flex items-center gap-1.5 whitespace-nowrap ${state === 'stuck' ? 'font-semibold' : ''}`} title={means[state]}>
      <Mark state={like[state]} />
      {state}
    </span>
  )
}
