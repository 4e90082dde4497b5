import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

import { JobWindow, mostRows } from './window'
import { mulberry } from '../lib/draw'

// The service that a list reads: jobs of which some match, read by pages as /v1/jobs is.
const service = {
  jobs: new Map<number, boolean>(), // by id, whether a job matches
  failing: false,
  slow: () => 0,
  looksAt: Infinity, // how many jobs are looked at for a page
  asked: [] as Query[],
  matching: () => [...service.jobs].filter(([, matches]) => matches).map(([id]) => id),
}

interface Query {
  state?: string
  order?: string
  cursor?: string
  ids?: number[]
  limit: number
}

vi.mock('./client', () => ({
  queryOf: (f: object) => f,
  told: (answer: Promise<unknown>) => answer,
  api: {
    GET: async (_: string, { params }: { params: { query: Query } }) => {
      const { state, order, cursor, ids, limit } = params.query
      service.asked.push(params.query)
      await new Promise((done) => setTimeout(done, service.slow()))
      if (service.failing) throw new Error('the service is away')
      const turned = order === 'oldest' ? -1 : 1
      const places = [...service.jobs.keys()]
        .filter((id) => (!cursor || id * turned < Number(cursor) * turned) && (!ids || ids.includes(id)))
        .sort((a, b) => (b - a) * turned)
      const found = places.slice(0, service.looksAt).filter((id) => !state || service.jobs.get(id))
      await new Promise((done) => setTimeout(done, service.slow()))
      const jobs = found.slice(0, limit).map((id) => ({ id }))
      const end = found.length > limit ? jobs.at(-1)!.id : places.length > service.looksAt ? places[service.looksAt - 1] : undefined
      return { jobs, next_cursor: ids ? undefined : end?.toString() }
    },
  },
}))

beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('document', { hidden: false })
  service.jobs = new Map()
  service.failing = false
  service.slow = () => 5
  service.looksAt = Infinity
  service.asked = []
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

const soon = () => vi.advanceTimersByTimeAsync(60_000)

/** enqueue adds jobs of which most match, and list begins a list of those that do. */
function enqueue(n: number, matches = () => true) {
  const ids = Array.from({ length: n }, (_, i) => service.jobs.size + 1 + i)
  for (const id of ids) service.jobs.set(id, matches())
  return ids
}

function list(order?: 'oldest') {
  const w = new JobWindow({ state: 'ready', order })
  w.start()
  return { w, view: () => w.snapshot(), ids: () => w.snapshot().jobs.map((j) => j.id) }
}

describe('the jobs of a list', () => {
  it.each(['newest', 'oldest'] as const)(
    '%s first, are in the end those that match, whatever happens to them and whenever it is heard',
    async (order) => {
      for (let seed = 1; seed <= 250; seed++) {
        const draw = mulberry(seed)
        const upTo = (n: number) => Math.floor(draw() * n)
        service.jobs = new Map()
        service.slow = () => upTo(200)
        enqueue(upTo(300))
        const { w, ids, view } = list(order === 'oldest' ? order : undefined)
        const sorted = (all: number[]) => all.toSorted((a, b) => (order === 'oldest' ? a - b : b - a))
        const steps: (() => unknown)[] = [
          () => {
            const many = upTo(4) === 0
            const fresh = enqueue(many ? 70 : 3, () => upTo(5) > 0)
            w.note(many ? [] : fresh.map((id) => ({ id })), many)
          },
          () => {
            const ids = Array.from({ length: upTo(5) }, () => 1 + upTo(Math.max(service.jobs.size, 1))).filter((id) => service.jobs.has(id))
            for (const id of ids) service.jobs.set(id, !service.jobs.get(id))
            const many = upTo(4) === 0
            w.note(many ? [] : ids.map((id) => ({ id })), many)
          },
          () => w.hold(true),
          () => w.hold(false),
          () => w.settle(),
          ...Array<() => void>(4).fill(() => w.loadOn()),
          () => upTo(3) === 0 && w.again(),
          () => (service.failing = upTo(2) === 0),
        ]
        for (let n = 0; n < 40; n++) {
          steps[upTo(steps.length)]!()
          await vi.advanceTimersByTimeAsync(upTo(900))
          expect(new Set(ids()).size, `seed ${seed}: a job stands twice`).toBe(ids().length)
          expect(ids(), `seed ${seed}`).toEqual(sorted(ids()))
        }
        service.failing = false
        w.hold(false)
        await soon()
        const all = sorted(service.matching())
        expect(ids(), `seed ${seed}`).toEqual(view().more ? all.slice(0, ids().length) : all)
        expect([view().fresh, view().gone.size, view().all, view().error], `seed ${seed}`).toEqual([0, 0, true, undefined])
        w.stop()
      }
    },
  )

  it('stay in their places while somebody looks at them', async () => {
    enqueue(60)
    const { w, ids, view } = list()
    await soon()
    const before = ids()
    w.hold(true)
    service.jobs.set(58, false)
    w.note([{ id: 58 }, ...enqueue(3).map((id) => ({ id }))], false)
    await soon()
    expect(ids()).toEqual(before)
    expect([view().fresh, view().all, [...view().gone]]).toEqual([3, true, [58]])
    w.note([], enqueue(80).length > 0)
    await soon()
    w.note([{ id: 57 }], false)
    await soon()
    expect(ids()).toEqual(before)
    expect([...view().gone]).toEqual([58])
    expect([view().fresh, view().all]).toEqual([50, false])
    w.settle()
    await soon()
    expect(ids().slice(0, 2)).toEqual([143, 142])
  })

  it('are true also where they are shown while others are read', async () => {
    enqueue(60)
    const { w, ids, view } = list()
    await soon()
    w.hold(true)
    w.note([{ id: 61 }], enqueue(1).length > 1)
    await soon()
    service.jobs.set(61, false)
    w.note([{ id: 61 }], false)
    await vi.advanceTimersByTimeAsync(703) // it is being read
    w.settle()
    expect(ids()[0]).toBe(61)
    await soon()
    expect([...view().gone]).toEqual([61])
  })

  it('are not read again where they have not changed', async () => {
    enqueue(200)
    const { w, ids } = list()
    await soon()
    for (let n = 0; n < 3; n++) {
      w.loadOn()
      await soon()
    }
    expect(ids()).toHaveLength(200)
    service.asked = []
    service.jobs.set(20, false).set(199, false)
    w.note([{ id: 20 }], false)
    await soon()
    expect(service.asked.map((q) => q.ids ?? q.limit)).toEqual([50, [199, 20]])
    expect(ids()).toHaveLength(198)
    w.hold(true)
    service.asked = []
    w.note([], true)
    await soon()
    expect(service.asked.map((q) => q.ids?.length ?? q.limit)).toEqual([198, 50])
  })

  it('that were found far back stay when what is newer changes', async () => {
    enqueue(300, () => service.matching().length === 0)
    service.jobs.set(2, true)
    service.looksAt = 100
    const { w, ids, view } = list()
    await soon()
    expect([ids(), view().more, view().searching]).toEqual([[], true, true])
    for (let n = 0; n < 2; n++) {
      w.loadOn()
      await soon()
    }
    expect(ids()).toEqual([2, 1])
    w.note([{ id: 301 }], enqueue(1).length > 1)
    await soon()
    expect(ids()).toEqual([301, 2, 1])
  })

  it('end where there are too many to show', async () => {
    enqueue(mostRows + 300)
    const { w, ids, view } = list()
    for (let n = 0; n < 50; n++) {
      await vi.advanceTimersByTimeAsync(100)
      w.loadOn()
    }
    expect([ids().length, view().more]).toEqual([mostRows, false])
    w.note([{ id: service.jobs.size + 1 }], enqueue(1).length > 1)
    await soon()
    w.note([{ id: service.jobs.size + 1 }], enqueue(1).length > 1)
    await soon()
    expect([ids().length, view().more], 'nobody looks at the end').toEqual([50, true])
  })
})
