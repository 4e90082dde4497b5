import { describe, expect, it, vi } from 'vitest'

vi.mock('../lib/base', () => ({ base: '' }))

import { mulberry } from '../lib/draw'
import { flagsOf } from '../lib/flags'
import { search } from '../lib/address'
import { type Filter, filterNames, pairOf, pairText, queryOf, selectionOf } from './client'

const odd = ['a', 'tide:1', 'x=y', '50%', '%3A', 'ü', ' ', "o'clock", '🚢', '0', 'a,b', '&', '#', '"']

describe('a label', () => {
  it('is read as it was written, whatever its name', () => {
    for (const name of odd) for (const value of odd) expect(pairOf(pairText(name, value)), `${name} is ${value}`).toEqual([name, value])
  })

  it('is read as the service reads it', () => {
    expect(pairOf('customer=acme')).toEqual(['customer', 'acme'])
    expect(pairOf('a=b:c')).toEqual(['a', 'b:c'])
    expect(pairOf('a:b=c')).toEqual(['a', 'b=c'])
    expect(pairOf('50%:c')).toEqual(['50%', 'c'])
    expect(pairOf('acme')).toEqual(['acme', ''])
  })
})

describe('acts on many', () => {
  const whole: Filter = {
    state: 'dead, held',
    queue: 'berths,tides',
    task: 'dues.charge',
    owner: "o'clock",
    key: 'k',
    worker: 'w',
    batch: '7',
    label: 'crane%3Ano:3\nship:heron',
    cause: '9',
    error: 'tide: low',
    since: '2026-11-23T06:00:00Z',
    until: '2026-11-24T06:00:00Z',
  }

  it('are for the jobs that the list shows', () => {
    const { label, steps, ids, ...query } = queryOf(whole)
    expect([label, steps, ids]).toEqual([['crane%3Ano:3', 'ship:heron'], undefined, undefined])
    expect(selectionOf(whole)).toEqual({ ...query, labels: { 'crane:no': '3', ship: 'heron' } })
    const narrowing = filterNames.filter((n) => n !== 'steps' && n !== 'ids' && n !== 'order' && n !== 'from')
    expect(Object.keys(whole).sort(), 'the filter of this test is whole').toEqual([...narrowing].sort())
  })

  it('are for none where the filter cannot be told', () => {
    for (const f of [
      { batch: 'abc' },
      { cause: 'x' },
      { batch: 'NaN' },
      { label: 'a:1\na:2' },
      { label: 'a:1\na=2' },
      { ids: '1,2' },
      { steps: 'in_doubt' },
    ])
      expect(selectionOf({ state: 'dead', ...f }), JSON.stringify(f)).toBeUndefined()
  })

  it('are told as the flags of a command', () => {
    expect(flagsOf(whole)).toContain(` --owner 'o'\\''clock'`)
    expect(flagsOf(whole)).toContain(' --label crane:no=3 --label ship=heron')
    expect(flagsOf({})).toBe('')
  })
})

describe('a filter', () => {
  it('stands in the address as it is', () => {
    const draw = mulberry(3)
    for (let n = 0; n < 500; n++) {
      const f: Filter = {}
      for (const name of filterNames) if (draw() < 0.3) f[name] = odd[Math.floor(draw() * odd.length)]!.trim() || 'x'
      if (draw() < 0.3) f.label = `${pairText('a:b', 'c')}\nship:heron`
      const q = new URLSearchParams(search(f))
      const back = Object.fromEntries(filterNames.flatMap((name) => (q.has(name) ? [[name, q.getAll(name).join('\n')]] : [])))
      expect(back).toEqual(f)
    }
    expect(search({})).toBe('')
  })
})
