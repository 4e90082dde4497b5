import { describe, expect, it } from 'vitest'

import { entered, read } from './defaults'
import { enteredRules, readRules } from '../pages/queues/rules'
import { blank, command, payloadProblem, written } from '../pages/coming/schedules'

describe('a schedule as it is entered', () => {
  const tides = { ...blank, name: 'tides', task: 'tide.predict' }

  it('keeps the payload as it was written', () => {
    for (const payload of [
      '{"n":12345678901234567890}',
      '1.0',
      '{"fee":"$$5 $& $1 $`"}',
      '{"text":"\\"job\\":{"}',
      ' {"a": [1,\n 2]} ',
      'null',
    ]) {
      const text = written({ ...tides, payload })
      expect(text).toContain(`"payload":${payload.trim()},`)
      expect((JSON.parse(text) as { job: { payload: unknown } }).job.payload).toEqual(JSON.parse(payload))
    }
    expect(written({ ...tides, payload: ' ' })).not.toContain('payload')
  })

  it('is a command that a shell takes as one word', () => {
    const line = command({ ...tides, note: "the pilot's" })
    expect(line).toContain(`the pilot'\\''s`)
    expect(line.replaceAll(`'\\''`, '').split("'")).toHaveLength(3)
  })

  it('tells what keeps a payload from being JSON', () => {
    expect(payloadProblem({ ...tides, payload: '' })).toBeUndefined()
    expect(payloadProblem({ ...tides, payload: '{"a":' })).toMatch(/JSON/)
  })
})

describe('defaults and rules as they are entered', () => {
  it('come back as they were', () => {
    for (const d of [
      {},
      { queue: 'berths', priority: 0, max_attempts: 0, timeout: '5m', max_running: 3, keep_result: '0s' },
      { retry: { curve: 'exponential' as const, first: '1s', factor: 3, ceiling: '1h', jitter: 0 } },
      { retry: { curve: 'list' as const, delays: ['1s', '10s'], give_up_after: '1d' } },
      { calls: { ok: [404] }, notify: [{ on: ['dead' as const], endpoint: 'press' }] },
    ]) {
      const { defaults, wrong } = read(entered(d), d)
      expect(wrong).toEqual({})
      expect(JSON.parse(JSON.stringify(defaults))).toEqual(d)
    }
    for (const d of [
      {},
      { order: 'ageing' as const, boost: '5m' },
      { turns: 'owner' as const, owner_weights: { 'A = B': 3, Marsh: 1 } },
      { rate: { per_second: 0.5, burst: 2 }, max_waiting: 1_000_000 },
    ]) {
      const { rules, wrong } = readRules(enteredRules(d))
      expect(wrong).toEqual({})
      expect(JSON.parse(JSON.stringify(rules))).toEqual(d)
    }
  })

  it('name each field whose number is wrong', () => {
    const d = read({ ...entered(), curve: 'exponential', priority: '10', max_attempts: '1.5', factor: 'x', jitter: '-1' })
    expect(Object.keys(d.wrong).sort()).toEqual(['factor', 'jitter', 'max_attempts', 'priority'])
    const r = readRules({
      ...enteredRules(),
      max_running: '0',
      max_waiting: '1e10',
      burst: '3',
      turns: 'owner',
      weights: 'Marsh\nHeron = 0',
    })
    expect(Object.keys(r.wrong).sort()).toEqual(['burst', 'max_running', 'max_waiting', 'weights'])
  })
})
