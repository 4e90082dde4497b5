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
    void this.run(() => this.first())
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
    if (!held) this.settle()
  }

  /** settle shows what was held back. */
  settle() {
    const gone = this.view.gone
    const jobs = [...this.waiting, ...this.view.jobs.filter((j) => !gone.has(j.id))]
    const all = this.view.all
    this.waiting = []
    this.set({ jobs: jobs.slice(0, mostRows), gone: new Set(), fresh: 0, all: true })
    if (!all) void this.run(() => this.first())
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
    void this.run(() => this.first())
  }

  /** loadOn reads the jobs that follow. */
  loadOn() {
    if (this.busy || !this.cursor || this.view.jobs.length >= mostRows) return
    void this.run(async () => {
      const p = await this.read({ cursor: this.cursor })
      const known = new Set(this.view.jobs.map((j) => j.id))
      this.cursor = p.next_cursor
      this.set({ jobs: [...this.view.jobs, ...p.jobs.filter((j) => !known.has(j.id))].slice(0, mostRows) })
      this.tellMore(p)
    })
  }

  private later(ms: number) {
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      void this.run(() => this.refresh())
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

  private async first() {
    const p = await this.read({})
    this.cursor = p.next_cursor
    this.waiting = []
    this.set({ jobs: p.jobs, gone: new Set(), fresh: 0, all: true })
    this.tellMore(p)
  }

  private tellMore(p: Page) {
    const full = this.view.jobs.length >= mostRows
    this.set({
      matched: p.matched ?? (this.cursor ? undefined : this.view.jobs.length),
      more: !!this.cursor && !full,
      searching: !!this.cursor && p.jobs.length < page,
      searchedTo: p.searched_to_at,
    })
  }

  /** refresh reads the first page, and those of the other rows that have changed. */
  private async refresh() {
    const { many } = this
    const changed = this.changed
    this.many = false
    this.changed = new Set()
    const newest = (this.filter.order ?? 'newest') === 'newest'
    if (!newest) return this.replace()
    const p = await this.read({})
    const first = new Map(p.jobs.map((j) => [j.id, j]))
    const shown = new Set(this.view.jobs.map((j) => j.id))
    const top = this.view.jobs[0]?.id ?? 0
    const last = p.jobs.at(-1)?.id ?? 0
    const asked = this.view.jobs.map((j) => j.id).filter((id) => !first.has(id) && (many || changed.has(id) || id > last))
    const { now, gone } = await this.changes(asked)
    const fresh = p.jobs.filter((j) => !shown.has(j.id) && j.id > top)
    const gap = fresh.length === page && shown.size > 0 // there may be others between these and what is shown
    const rows = this.view.jobs.map((j) => first.get(j.id) ?? now.get(j.id) ?? j)
    for (const id of this.view.gone) if (!first.has(id) && !now.has(id)) gone.add(id)
    this.tell(p)
    if (!this.held && gap) {
      this.cursor = p.next_cursor
      this.set({ jobs: p.jobs, gone: new Set(), fresh: 0, all: true })
      this.tellMore(p)
    } else if (this.held) {
      this.waiting = fresh
      this.set({ jobs: rows, gone, fresh: fresh.length, all: !gap })
    } else {
      const kept = rows.filter((j) => !gone.has(j.id))
      const between = p.jobs.filter((j) => !shown.has(j.id) && j.id <= top) // that match again
      const jobs = [...fresh, ...kept, ...between].sort((a, b) => b.id - a.id).slice(0, mostRows)
      this.set({ jobs, gone: new Set(), fresh: 0, all: true })
      if (!this.cursor) this.cursor = jobs.length > 0 && p.next_cursor && jobs.at(-1)!.id >= last ? p.next_cursor : undefined
      this.set({ more: !!this.cursor && jobs.length < mostRows })
    }
  }

  private tell(p: Page) {
    const known = p.matched ?? (p.next_cursor || this.filter.from ? undefined : p.jobs.length)
    this.set({ matched: known })
  }

  /** changes reads rows again: how they are now, and which match no more. */
  private async changes(ids: number[]) {
    const now = new Map<number, Job>()
    const gone = new Set<number>()
    for (let i = 0; i < ids.length; i += mostIDs) {
      const part = ids.slice(i, i + mostIDs)
      const matching = await this.read({ ids: part, limit: mostIDs })
      for (const j of matching.jobs) now.set(j.id, j)
      const rest = part.filter((id) => !now.has(id))
      for (const id of rest) gone.add(id)
      if (rest.length === 0 || !this.held) continue
      const other = await told(api.GET('/v1/jobs', { params: { query: { ids: rest, limit: mostIDs } } }))
      for (const j of other.jobs as Job[]) now.set(j.id, j)
    }
    return { now, gone }
  }

  /** replace reads as many rows again as are shown, in an order in which rows change their places. */
  private async replace() {
    const p = await this.read({ limit: Math.min(Math.max(this.view.jobs.length, page), mostIDs) })
    if (this.held) {
      const now = new Map(p.jobs.map((j) => [j.id, j]))
      this.set({ jobs: this.view.jobs.map((j) => now.get(j.id) ?? j) })
      return
    }
    this.cursor = p.next_cursor
    this.set({ jobs: p.jobs })
    this.tellMore(p)
  }

  private set(part: Partial<View>) {
    this.view = { ...this.view, ...part }
    for (const w of this.watchers) w()
  }
}
