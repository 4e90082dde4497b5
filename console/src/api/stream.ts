// Reads the service's events. The stream is read by fetch, which unlike
// EventSource can carry a token.

/** Told is what a reader of events is told. */
export type Told = { live: boolean } | { event: string; data: string }

async function read(body: ReadableStream<Uint8Array>, tell: (t: Told) => void) {
  const reader = body.pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    tell({ live: true })
    const events = (rest + value).split('\n\n')
    rest = events.pop() ?? ''
    for (const text of events) {
      const event = /^event: (.*)$/m.exec(text)?.[1]
      const data = /^data: (.*)$/m.exec(text)?.[1]
      if (event && data) tell({ event, data })
    }
  }
}

/** follow keeps the stream open for as long as the page, or the worker, is. */
export async function follow(tell: (t: Told) => void, token: string): Promise<never> {
  for (let pause = 500; ; pause = Math.min(pause * 2, 4000)) {
    try {
      const answer = await fetch('/v1/events', { headers: token ? { Authorization: `Bearer ${token}` } : {} })
      if (answer.ok && answer.body) {
        pause = 500
        await read(answer.body, tell)
      }
    } catch {
      // The service is away; the page says so.
    }
    tell({ live: false })
    await new Promise((r) => setTimeout(r, pause))
  }
}
