import { expect, test } from 'vitest'

import { localOf, timeIn, whenOf } from './when'

const now = new Date(2026, 10, 23, 12, 30)
const at = (...parts: [number, number, number, number?, number?, number?]) =>
  new Date(parts[0], parts[1] - 1, ...(parts.slice(2) as [number]))

test.each([
  ['9:05', at(2026, 11, 23, 9, 5)],
  ['12:30', at(2026, 11, 23, 12, 30)],
  ['14:02:30', at(2026, 11, 22, 14, 2, 30)],
  [' Yesterday 14:02 ', at(2026, 11, 22, 14, 2)],
  ['yesterday', at(2026, 11, 22)],
  ['today', at(2026, 11, 23)],
  ['2026-03-01', at(2026, 3, 1)],
  ['2024-02-29 06:12', at(2024, 2, 29, 6, 12)],
  ['2026-11-23T06:12:00Z', new Date('2026-11-23T06:12:00Z')],
])('%s is a time', (text, want) => {
  expect(whenOf(text, now)).toEqual(want)
})

test.each(['', '4711', '24:00', '9:60', '2026-02-29', '2026-13-01 06:12', 'tomorrow', '2026-11-23T99', '-5:00', '9:5'])(
  '%s is none',
  (text) => {
    expect(whenOf(text, now)).toBeUndefined()
  },
)

test('a time comes back from the field of a form', () => {
  for (const time of ['2026-11-23T06:12:00.000Z', '2026-03-29T01:30:00.000Z', '2024-02-29T23:59:00.000Z'])
    expect(timeIn(localOf(time))).toBe(time)
  expect(localOf()).toBe('')
})

test.each(['', 'x', '2026-11-23T25:00', '10000-01-01T06:00', '275761-01-01T00:00'])('a field with %s has none', (field) => {
  expect(timeIn(field)).toBeUndefined()
})
