import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { volumesGive } from './gives'
import { defaultWish, solveFit } from './solve'
import { startingPoints } from './starts'
import { SHRINKS, surveyWith } from './testing'

const target = { sizeBytes: 64 * GIB, logicalSectorSize: 512 }
const sectors = (bytes: number) => bytes / 512

/** A boot partition, a system of 60 GiB that could be 40, and a Linux volume of 30 that cannot be smaller. */
const disk = () =>
  surveyWith(
    [
      { role: 'boot', sectors: sectors(100 * MIB), volume: { canGrow: false } },
      { role: 'system', sectors: sectors(60 * GIB), used: 39 * GIB, volume: SHRINKS(40 * GIB) },
      { role: 'data', sectors: sectors(30 * GIB), volume: { kind: 'ext4', name: 'ext4', canShrink: false } },
    ],
    100 * GIB,
  )

describe('a target that is too small', () => {
  const survey = disk()
  const wish = defaultWish(survey)

  it('leaves every volume in view, with what it could give and why not more', () => {
    expect(solveFit(survey, target, wish).fits).toBe(false)
    const gives = volumesGive(survey, target, wish)
    expect(gives.map((v) => v.number)).toEqual(
      survey.partitions.filter((p) => p.role !== 'extended').map((p) => p.number),
    )
    for (const { why, waysOut } of gives) {
      expect(why).toMatch(/\.$/)
      expect(waysOut.length).toBeGreaterThan(0)
    }
  })

  it('says of each way out whether it is enough, as the solver does', () => {
    for (const { waysOut } of volumesGive(survey, target, wish))
      for (const way of waysOut) expect(way.fits, way.label).toBe(solveFit(survey, target, way.wish).fits)
    const [boot, , data] = volumesGive(survey, target, wish)
    expect([boot, data].map((v) => v.waysOut.map((w) => w.fits))).toEqual([[false], [true]])
    expect(data.why).toMatch(/ext4 is not made smaller/)
    const out = data.waysOut[0]
    const back = volumesGive(survey, target, out.wish)[2]
    expect(back).toMatchObject({ takesBytes: 0, givesBytes: 0 })
    expect(back.waysOut.map((w) => w.id)).toEqual(['take-along'])
  })
})

describe('starting points', () => {
  it('say where they can do nothing', () => {
    const survey = disk()
    expect(startingPoints(survey).every((p) => p.idle === undefined)).toBe(true)
    const rigid = {
      ...survey,
      partitions: survey.partitions.map((p) => ({
        ...p,
        volume: p.volume && { ...p.volume, canGrow: false, canShrink: false, totalBytes: p.sizeBytes },
      })),
    }
    expect(startingPoints(rigid).map((p) => [p.id, p.idle !== undefined])).toEqual([
      ['system', true],
      ['proportion', true],
      ['same', false],
      ['smallest', true],
    ])
  })
})
