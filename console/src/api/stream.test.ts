import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

import { mulberry } from '../lib/draw'
import { type Told, follow } from './stream'

/** A Call is one that the page has made for its events; what the service says to it is put into its stream. */
interface Call {
  last?: string
  says: (bytes: Uint8Array) => void
  ends: () => void
  over: boolean
}

let calls: Call[] = []
let away = false
let told: Told[] = []
const events = () => told.filter((t) => 'event' in t)
const open = () => told.filter((t) => 'live' in t).at(-1)

beforeEach(() => {
  vi.useFakeTimers()
  calls = []
  away = false
  told = []
  vi.stubGlobal('fetch', (_: string, { headers, signal }: { headers: Record<string, string>; signal: AbortSignal }) => {
    if (away) return Promise.reject(new Error('refused'))
    const call: Call = { last: headers['Last-Event-ID'], says: () => undefined, ends: () => undefined, over: false }
    const body = new ReadableStream<Uint8Array>({
      start(c) {
        call.says = (b) => c.enqueue(b)
        call.ends = () => c.close()
        signal.addEventListener('abort', () => {
          call.over = true
          c.error(signal.reason)
        })
      },
    })
    calls.push(call)
    return Promise.resolve({ ok: true, body })
  })
  void follow((t) => told.push(t), '')
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

const after = (ms: number) => vi.advanceTimersByTimeAsync(ms)
const bytes = (text: string) => new TextEncoder().encode(text)
const event = (id: number, ship: string) => `id: ${id}\nevent: jobs\ndata: {"ship":"${ship}"}\n\n`

describe('the events of the service', () => {
  it('are told whole, however they are cut on their way', async () => {
    const draw = mulberry(7)
    const ships = Array.from({ length: 200 }, (_, i) => `Möwe 🚢 ${i}`)
    let all = bytes(':\n\n' + ships.map((s, i) => event(i, s)).join(''))
    await after(0)
    while (all.length > 0) {
      const n = 1 + Math.floor(draw() * 40)
      calls[0]!.says(all.slice(0, n))
      all = all.slice(n)
      await after(0)
    }
    expect(events()).toEqual(ships.map((s, i) => ({ event: 'jobs', data: `{"ship":"${s}"}`, id: String(i) })))
    expect(open()).toEqual({ live: true })
  })

  it('go on after the last that was heard', async () => {
    await after(0)
    calls[0]!.says(bytes(event(16, 'Heron') + event(17, 'Plover') + 'id: 18\nevent: jobs\nda'))
    await after(0)
    calls[0]!.ends()
    await after(0)
    expect(open()).toEqual({ live: false })
    await after(500)
    expect(calls.map((c) => c.last)).toEqual([undefined, '17'])
    calls[1]!.says(bytes(event(18, 'Curlew')))
    await after(0)
    expect(events().map((t) => 'id' in t && t.id)).toEqual(['16', '17', '18'])
  })

  it('end where the service says nothing, not even that it lives', async () => {
    await after(0)
    for (let n = 0; n < 5; n++) {
      await after(8000)
      calls[0]!.says(bytes(':\n\n'))
    }
    await after(8900)
    expect([calls[0]!.over, open()]).toEqual([false, { live: true }])
    await after(200)
    expect([calls[0]!.over, open()]).toEqual([true, { live: false }])
  })

  it('are asked for ever less often while the service is away, and soon again once it was there', async () => {
    await after(0)
    away = true
    calls[0]!.ends()
    const asked = vi.spyOn(globalThis, 'fetch')
    const in20s = async () => {
      asked.mockClear()
      await after(20_000)
      return asked.mock.calls.length
    }
    expect(await in20s()).toBe(7)
    expect(await in20s()).toBe(5)
    away = false
    await after(4000)
    calls.at(-1)!.says(bytes(':\n\n'))
    await after(0)
    expect(open()).toEqual({ live: true })
    calls.at(-1)!.ends()
    const before = calls.length
    await after(500)
    expect(calls.length).toBe(before + 1)
  })
})
