import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { giversFor } from './givers'
import { type MadePart, surveyWith } from './testing'

const SECTORS = (gib: number) => (gib * GIB) / 512
const volume = { canShrink: true, shrunkBytes: 20 * GIB }
const data = (gib: number, more: Partial<MadePart> = {}): MadePart => ({
  role: 'data',
  sectors: SECTORS(gib),
  volume,
  ...more,
})

describe('who could give room on a drive', () => {
  it('is whoever has enough to spare, most of all first', () => {
    const survey = surveyWith([data(100), data(10, { volume: null }), data(200)], 320 * GIB)
    const givers = giversFor(survey, 40 * GIB)
    expect(givers.map(({ number }) => number)).toEqual([3, 1])
    expect(givers[1]).toMatchObject({ missing: 40 * GIB + 2 * MIB, spare: 80 * GIB })
  })

  it('is nobody who has too little, cannot be made smaller, was not closed, or is logical', () => {
    for (const part of [
      data(50),
      data(100, { volume: { canShrink: false } }),
      data(100, { volume: { ...volume, state: 'dirty' } }),
      data(100, { volume: { ...volume, shrunkBytes: 99 * GIB } }),
    ])
      expect(giversFor(surveyWith([part], 120 * GIB), 40 * GIB)).toEqual([])
    const logical = data(100, { mbr: { type: 7, kind: 'logical' } })
    expect(giversFor(surveyWith([logical], 120 * GIB, 'mbr'), 40 * GIB)).toEqual([])
  })

  it('is nobody behind whom there is room already, and less is missing behind a small gap', () => {
    const roomy = surveyWith([data(100)], 200 * GIB)
    const end = roomy.partitions[0].lastLba + 1
    const gap = (gib: number) => [{ firstLba: end, lastLba: end + SECTORS(gib) - 1, sizeBytes: gib * GIB }]
    expect(giversFor({ ...roomy, gaps: gap(99) }, 40 * GIB)).toEqual([])
    expect(giversFor({ ...roomy, gaps: gap(30) }, 40 * GIB)).toMatchObject([{ missing: 10 * GIB + 2 * MIB }])
  })
})
