// The jobs that a list shows: some pages of all that match, kept true by what the service tells
// of changes, so that nothing that has not changed is read again.
import { type Filter, type Job, api, queryOf, told } from './client'
import type { JobChanged } from './live'

/** How many rows are read at once, how many are kept, and how many ids a call takes. */
const page = 50
export const mostRows = 2000
const mostIDs = 500

/** How long after a reading the next one begins at the earliest; longer where very much changes. */
const pause = 700
const pauseOfMany = 2000

/** View is what a list shows. */
export interface View {
  jobs: Job[]
  /** gone are the shown jobs that match no more. */
  gone: ReadonlySet<number>
  /** fresh is how many new jobs wait to be shown; more may where all is false. */
  fresh: number
  all: boolean
  /** matched is how many match, where that is known. */
  matched?: number
  /** more is true where jobs follow; searching where it is not known whether any does. */
  more: boolean
  searching: boolean
  /** searchedTo is when the last job was enqueued that was looked at, where more are to be. */
  searchedTo?: string
  reading: boolean
  began: boolean
  error?: Error
}

interface Page {
  jobs: Job[]
  next_cursor?: string
  matched?: number
  searched_to_at?: string
}

/** JobWindow keeps the jobs of one list. */
export class JobWindow {
  private view: View = { jobs: [], gone: new Set(), fresh: 0, all: true, more: false, searching: false, reading: false, began: false }
  private watchers = new Set<() => void>()
  private cursor?: string
  private waiting: Job[] = [] // new ones that are not shown yet
  private held = false
  private changed = new Set<number>()
  private many = false
  private missed = new Set<number>() // changed while the rows were held, and not among them
  private missedMany = false
  private anew = false // everything is to be read from the first page on
  private timer?: ReturnType<typeof setTimeout>
  private busy = false
  private stopped = true
  private readonly filter: Filter

  constructor(filter: Filter) {
    this.filter = filter
  }

  subscribe = (w: () => void) => {
    this.watchers.add(w)
    return () => void this.watchers.delete(w)
  }
  snapshot = () => this.view

  start() {
    this.stopped = false
    this.again()
  }

  stop() {
    this.stopped = true
    clearTimeout(this.timer)
    this.timer = undefined
  }

  /** hold keeps the rows where they are: new ones gather, and those that match no more stay. */
  hold(held: boolean) {
    if (this.held === held) return
    this.held = held
    if (held) return
    this.settle()
    for (const id of this.missed) this.changed.add(id)
    this.many ||= this.missedMany
    this.missed.clear()
    this.missedMany = false
    this.wake()
  }

  /** settle shows what was held back. */
  settle() {
    if (!this.view.all) return this.again()
    const gone = this.view.gone
    const jobs = [...this.waiting, ...this.view.jobs.filter((j) => !gone.has(j.id))]
    this.waiting = []
    this.set({ jobs, gone: new Set(), fresh: 0 })
    if (this.busy) this.note([], true) // what is being read knows nothing of those that waited
  }

  /** note takes what has changed; it is read soon. */
  note(changed: JobChanged[], many: boolean) {
    for (const c of changed) this.changed.add(c.id)
    this.many ||= many
    if (!this.stopped && !document.hidden) this.later(this.many ? pauseOfMany : pause)
  }

  /** wake reads what changed while nobody looked. */
  wake() {
    if (!this.stopped && (this.many || this.changed.size > 0)) this.later(0)
  }

  again() {
    this.anew = true
    void this.run(() => this.renew())
  }

  /** loadOn reads the jobs that follow. */
  loadOn() {
    if (this.busy || !this.cursor || this.view.jobs.length >= mostRows) return
    void this.run(async () => {
      const p = await this.read({ cursor: this.cursor })
      const known = new Set(this.view.jobs.map((j) => j.id))
      this.cursor = p.next_cursor
      this.set({ jobs: [...this.view.jobs, ...p.jobs.filter((j) => !known.has(j.id))] })
      this.tellMore(p)
    })
  }

  private later(ms: number) {
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      void this.run(() => this.renew())
    }, ms)
  }

  private async run(step: () => Promise<void>) {
    if (this.busy) {
      this.later(pause)
      return
    }
    this.busy = true
    this.set({ reading: true })
    try {
      await step()
      this.set({ error: undefined })
    } catch (e) {
      this.many = true // what was to be read may be among what has changed
      this.set({ error: e as Error })
      if (!this.stopped) this.later(5000)
    }
    this.busy = false
    this.set({ reading: false, began: true })
  }

  private read(more: { cursor?: string; ids?: number[]; limit?: number }): Promise<Page> {
    const from = more.cursor || more.ids ? undefined : this.filter.from
    const query = { ...queryOf(this.filter), order: this.filter.order as 'next' | undefined, from, limit: page, ...more }
    return told(api.GET('/v1/jobs', { params: { query } }))
  }

  /** newest tells whether what is new comes first; else rows change their places. */
  private newest() {
    return (this.filter.order ?? 'newest') === 'newest'
  }

  /** renew makes the list true again. */
  private renew(): Promise<void> {
    if (this.anew) return this.first(page)
    if (this.held) return this.refreshHeld()
    if (this.newest()) return this.refresh()
    return this.first(Math.min(Math.max(this.view.jobs.length, page), mostIDs))
  }

  private async first(limit: number) {
    this.anew = false
    this.takeChanges()
    try {
      this.show(await this.read({ limit }), limit)
    } catch (e) {
      this.anew = true
      throw e
    }
  }

  /** show lists a page that begins with the first job, and nothing else. */
  private show(p: Page, limit: number) {
    this.cursor = p.next_cursor
    this.waiting = []
    this.set({ jobs: p.jobs, gone: new Set(), fresh: 0, all: true })
    this.tellMore(p, limit)
  }

  private takeChanges() {
    const { changed, many } = this
    this.changed = new Set()
    this.many = false
    return { changed, many }
  }

  private tellMore(p: Page, limit = page) {
    const full = this.view.jobs.length >= mostRows
    this.set({
      matched: p.matched ?? (this.cursor ? undefined : this.view.jobs.length),
      more: !!this.cursor && !full,
      searching: !!this.cursor && p.jobs.length < limit,
      searchedTo: p.searched_to_at,
    })
  }

  /** refresh reads the first page, and of the other rows those that have changed. */
  private async refresh() {
    const { changed, many } = this.takeChanges()
    const p = await this.read({})
    const first = new Set(p.jobs.map((j) => j.id))
    const last = p.jobs.at(-1)?.id ?? 0
    const shown = new Set(this.view.jobs.map((j) => j.id))
    const end = this.view.jobs.at(-1)?.id ?? 0
    const asked = [...shown].filter((id) => !first.has(id) && (many || changed.has(id) || id > last))
    for (const id of changed) if (!shown.has(id) && id < last && id > end) asked.push(id) // that match again
    const { matching, gone } = await this.changes(asked)
    if (this.held) {
      this.many = true
      return this.refreshHeld()
    }
    const full = p.jobs.length === page
    // Others may stand between these and what was shown, or among the latter; nobody looks at what is far down.
    const apart = full && (many || !p.jobs.some((j) => shown.has(j.id)) || shown.size > mostRows)
    if (apart) return this.show(p, page)
    const rest = this.view.jobs.filter((j) => !first.has(j.id) && !matching.has(j.id) && !gone.has(j.id))
    const jobs = [...p.jobs, ...matching.values(), ...rest].sort((a, b) => b.id - a.id)
    const known = p.matched ?? (p.next_cursor || this.filter.from ? undefined : jobs.length)
    this.set({ jobs, more: !!this.cursor && jobs.length < mostRows, matched: known })
  }

  /** refreshHeld reads the rows that have changed, and what is new, and leaves each row in its place. */
  private async refreshHeld(): Promise<void> {
    const { changed, many } = this.takeChanges()
    const shown = new Set(this.view.jobs.map((j) => j.id))
    for (const id of changed) if (!shown.has(id)) this.missed.add(id)
    this.missedMany ||= many || !this.newest()
    const asked = [...shown].filter((id) => many || changed.has(id))
    const { matching, gone } = await this.changes(asked)
    const others = new Map<number, Job>()
    for (const ids of parts([...gone])) {
      const p = await told(api.GET('/v1/jobs', { params: { query: { ids, limit: mostIDs } } }))
      for (const j of p.jobs as Job[]) others.set(j.id, j)
    }
    const p = this.newest() ? await this.read({}) : undefined
    if (!this.held) {
      this.many = true
      return this.renew()
    }
    for (const id of this.view.gone) if (!matching.has(id)) gone.add(id)
    this.set({ jobs: this.view.jobs.map((j) => matching.get(j.id) ?? others.get(j.id) ?? j), gone })
    if (!p) return
    const top = this.view.jobs[0]?.id ?? 0
    this.waiting = p.jobs.filter((j) => j.id > top)
    const gap = this.waiting.length === page && top > 0
    this.set({
      fresh: this.waiting.length,
      all: !gap,
      matched: p.matched ?? (p.next_cursor || this.filter.from ? undefined : p.jobs.length),
    })
  }

  /** changes reads jobs again: those that match, as they are now, and which do not. */
  private async changes(ids: number[]) {
    const matching = new Map<number, Job>()
    for (const part of parts(ids)) for (const j of (await this.read({ ids: part, limit: mostIDs })).jobs) matching.set(j.id, j)
    return { matching, gone: new Set(ids.filter((id) => !matching.has(id))) }
  }

  private set(part: Partial<View>) {
    this.view = { ...this.view, ...part }
    for (const w of this.watchers) w()
  }
}

/** parts are as many ids each as a call takes. */
function parts(ids: number[]): number[][] {
  return Array.from({ length: Math.ceil(ids.length / mostIDs) }, (_, i) => ids.slice(i * mostIDs, (i + 1) * mostIDs))
}
