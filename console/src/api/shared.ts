// One stream for all tabs: a browser allows six connections to a service, and
// every open stream holds one.
import { type Told, follow } from './stream'

const tabs = new Set<MessagePort>()
let last: Told = { live: false }
let following = false

addEventListener('connect', (e) => {
  const port = (e as MessageEvent).ports[0]!
  port.onmessage = (m: MessageEvent<{ base: string } | 'goodbye'>) => {
    if (m.data === 'goodbye') {
      tabs.delete(port)
      return
    }
    tabs.add(port)
    port.postMessage(last)
    port.postMessage({ event: 'reset', data: '{}' } satisfies Told)
    if (following) return
    following = true
    void follow((told) => {
      if ('live' in told) last = told
      for (const tab of tabs) tab.postMessage(told)
    }, m.data.base)
  }
})
