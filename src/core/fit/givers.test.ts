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
  it('is whoever has enough to spare, for the partition right behind it and for a new one', () => {
    const survey = surveyWith([data(100), data(10, { volume: null })], 120 * GIB)
    const givers = giversFor(survey, 40 * GIB)
    expect(givers.map(({ number, into, missing }) => [number, into, Math.ceil(missing / GIB)])).toEqual([
      [1, 2, 31],
      [1, 'free', 41],
    ])
    expect(givers[0].missing).toBe(30 * GIB + 2 * MIB)
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

  it('gives no room to what starts a system, or where there is room already', () => {
    const survey = surveyWith([data(100), { role: 'recovery', sectors: SECTORS(1) }], 102 * GIB)
    expect(giversFor(survey, 40 * GIB).map((g) => g.into)).toEqual(['free'])
    const roomy = surveyWith([data(100)], 200 * GIB)
    const end = roomy.partitions[0].lastLba + 1
    const gap = { firstLba: end, lastLba: SECTORS(199) - 1 }
    expect(giversFor({ ...roomy, gaps: [gap as (typeof roomy.gaps)[number]] }, 40 * GIB)).toEqual([])
  })
})
