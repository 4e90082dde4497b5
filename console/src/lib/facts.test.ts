import { describe, expect, test } from 'vitest'

import type { Fact, Queue } from '../api/client'
import { routes } from '../shell/routes'
import { factPath } from './facts'
import { binds, rate } from './pace'

const fact = (kind: Fact['kind'], about: Partial<Fact> = {}): Fact => ({ kind, text: 'Something is so.', ...about })

/** matches tells whether a page stands at an address. */
function matches(address: string): boolean {
  const path = address.replace(/\?.*$/, '')
  return routes.some((r) => new RegExp('^' + r.path.replace(/:\w+/g, '[^/]+') + '$').test(path))
}

describe('a fact leads to', () => {
  const all: [Fact, string | undefined][] = [
    [fact('new_cause', { cause: 7 }), '/dead/7'],
    [fact('new_cause'), '/dead'],
    [fact('dead'), '/dead'],
    [fact('no_worker', { queue: 'berths' }), '/queues/berths'],
    [fact('behind', { queue: 'a b/c' }), '/queues/a%20b%2Fc'],
    [fact('paused'), '/queues'],
    [fact('schedule', { schedule: 'tides' }), '/coming/tides'],
    [fact('in_doubt'), '/jobs?steps=in_doubt'],
    [fact('name'), '/workers'],
    [fact('operation', { operation: 3 }), '/log'],
    [fact('refused'), undefined],
    [fact('fine'), undefined],
  ]
  test.each(all)('%o', (f, want) => {
    expect(factPath(f)).toBe(want)
    if (want) expect(matches(want)).toBe(true)
  })
})

describe('what holds a queue back', () => {
  const queue = (by: Queue['pace']['binds'], more: Partial<Queue> = {}) =>
    ({ name: 'berths', counts: { ready: 2 }, pace: { slots: 6, binds: by }, ...more }) as unknown as Queue
  test('is said in a few words', () => {
    expect(binds(queue('slots'))).toBe('6 slots')
    expect(binds(queue('max_running', { max_running: 3 }))).toBe('at most 3 running')
    expect(binds(queue('rate', { rate: { per_second: 1 } }))).toBe('its rate of 1 start per second')
    expect(binds(queue('pause', { paused_by: 'ada' }))).toBe('paused by ada')
    expect(binds(queue('no_worker'))).toBe('no worker serves it')
    expect(binds(queue('arrivals'))).toBe('')
  })
  test('rates have as many digits as they need', () => {
    expect([0, 0.4, 9.96, 12.4, 1234].map(rate)).toEqual(['0', '0.4', '10.0', '12', '1\u202f234'])
  })
})
