// Reads the service's events. The stream is read by fetch, which unlike
// EventSource tells when it is silent.

/** Told is what a reader of events is told. */
export type Told = { live: boolean } | { event: string; data: string; id?: string }

/** read tells the events of a stream, and their ids, until it ends. */
async function read(body: ReadableStream<Uint8Array>, tell: (t: Told) => void, seen: (id: string) => void) {
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
      const id = /^id: (.*)$/m.exec(text)?.[1]
      if (event && data) tell({ event, data, id })
      if (id) seen(id)
    }
  }
}

/** follow keeps the stream open for as long as the page, or the worker, is. */
export async function follow(tell: (t: Told) => void, base: string): Promise<never> {
  let last = ''
  for (let pause = 500; ; pause = Math.min(pause * 2, 4000)) {
    const silence = new Silence()
    try {
      const headers: Record<string, string> = {}
      if (last) headers['Last-Event-ID'] = last // so that only what was missed is told
      const answer = await fetch(`${base}/v1/events`, { headers, signal: silence.signal })
      if (answer.ok && answer.body) {
        pause = 500
        await read(
          answer.body,
          (t) => {
            silence.over()
            tell(t)
          },
          (id) => (last = id),
        )
      }
    } catch {
      // The service is away, or silent; the page says so.
    }
    silence.end()
    tell({ live: false })
    await new Promise((r) => setTimeout(r, pause))
  }
}

/** A service that has said nothing for so long gives no answer: it shows a sign of life every 4 s. */
const silentFor = 9000

/** Silence ends a call that has brought nothing for too long. */
class Silence {
  private readonly control = new AbortController()
  private timer = setTimeout(() => this.control.abort(), silentFor)
  get signal() {
    return this.control.signal
  }
  over() {
    clearTimeout(this.timer)
    this.timer = setTimeout(() => this.control.abort(), silentFor)
  }
  end() {
    clearTimeout(this.timer)
  }
}
