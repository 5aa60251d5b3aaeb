import { describe, expect, it } from 'vitest'
import { asking, countsOf, type MemberState, whyNotASeries } from './series'

describe('a list of computers and drives', () => {
  const nameOf = (id: string) => `thing ${id}`

  it('names each of them once', () => {
    const one = { computerId: 'a', targetId: 'x' }
    expect(whyNotASeries([one, { computerId: 'b', targetId: 'y' }], nameOf)).toBeUndefined()
    expect(whyNotASeries([one, { computerId: 'b', targetId: 'x' }], nameOf)).toMatch(/Two computers name the thing x/)
    expect(whyNotASeries([one, { computerId: 'a', targetId: 'y' }], nameOf)).toMatch(/thing a is named twice/)
  })
})

describe('computers of a series', () => {
  const states: MemberState[] = ['waits', 'hands', 'done', 'failed', 'copies', 'plate', 'aside', 'start', 'prepares']
  const members = states.map((state) => ({ state }))

  it('are counted once each', () => {
    const counts = countsOf(states)
    expect(counts).toEqual({ done: 1, runs: 2, waits: 1, asks: 4, aside: 1 })
    expect(Object.values(counts).reduce((a, b) => a + b, 0)).toBe(states.length)
  })

  it('are asked about where somebody is needed, what frees a bay first', () => {
    expect(asking(members).map((m) => m.state)).toEqual(['failed', 'start', 'plate', 'hands'])
  })
})
