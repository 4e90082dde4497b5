import { describe, expect, it } from 'vitest'

import { mulberry } from './draw'
import { labelLines, labelsIn } from './labels'

describe('labels as they are entered', () => {
  const draw = mulberry(11)
  const upTo = (n: number) => Math.floor(draw() * n)
  const word = () =>
    Array.from({ length: 1 + upTo(3) }, () => ['a', '=', ' = ', ':', ' ', 'ü', '🚢', '__proto__', 'constructor', '0'][upTo(10)]).join('')

  it('stay as they were where their lines do, whatever the others become', () => {
    for (let n = 0; n < 2000; n++) {
      const before = Object.fromEntries(Array.from({ length: upTo(5) }, () => [word(), word()]))
      const lines = labelLines(before)
      if (new Set(lines.split('\n')).size < Object.keys(before).length) continue // two that look alike
      expect(labelsIn(lines, before).wrong).toBeUndefined()
      expect(labelsIn(`${lines}\nnew label = x=y`, before).labels).toEqual(
        Object.fromEntries([...Object.entries(before), ['new label', 'x=y']]),
      )
      const [first] = Object.keys(before)
      if (first !== undefined)
        expect(labelsIn(lines.split('\n').slice(1).join('\n'), before).labels).toEqual({ ...before, ...Object.fromEntries([[first, '']]) })
    }
  })

  it.each([
    ['ship', 'not a label'],
    ['= heron', 'not a label'],
    ['ship = heron\nship = plover', 'twice'],
    ['ship = heron\n ship=heron', 'twice'],
  ])('are not taken as %j', (text, why) => {
    expect(labelsIn(text, { berth: '3' }).wrong).toContain(why)
  })

  it('are new where their lines are', () => {
    expect(labelsIn(' ship=heron \n\nberth = 4', { berth: '3', 'a=b': 'c' })).toEqual({ labels: { ship: 'heron', berth: '4', 'a=b': '' } })
  })
})
