import { describe, expect, it } from 'vitest'

import { age, grouped, localTimes, span, tries } from './format'

describe('numbers and spans', () => {
  it('groups digits by three', () => {
    expect([0, 12, 999, 1000, 1234567].map(grouped).map((s) => s.replaceAll('\u202f', ' '))).toEqual([
      '0',
      '12',
      '999',
      '1 000',
      '1 234 567',
    ])
  })

  it('takes the largest unit that people would', () => {
    const written = {
      0: '0 ms',
      999: '999 ms',
      1000: '1.0 s',
      9940: '9.9 s',
      61_000: '61 s',
      600_000: '10 min',
      86_400_000: '24 h',
      259_200_000: '3 days',
    }
    for (const [ms, text] of Object.entries(written)) expect(span(Number(ms))).toBe(text)
  })

  it('says on which side of now a time lies', () => {
    const now = Date.parse('2026-12-01T06:00:00Z')
    expect(age('2026-12-01T05:59:59.500Z', now)).toBe('now')
    expect(age('2026-12-01T05:58:30Z', now)).toBe('90 s ago')
    expect(age('2026-12-01T06:00:05Z', now)).toBe('in 5 s')
  })

  it('tells tries with their limit, where there is one', () => {
    expect([tries(3, 17), tries(3, 0)]).toEqual(['3 of 17', '3'])
  })

  it('puts each time of a sentence into the zone of the reader', () => {
    const said = localTimes('Is retried at 2031-12-01T06:00:00.000Z, and skipped at 2031-12-02T06:00:00Z.')
    expect(said).not.toMatch(/\dT\d|Z/)
    expect(said).toMatch(/2031.*2031/)
  })
})
