import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'
import { capacityOf } from '../things/capacity'
import { likeliestPlace, placesFor, solveInto } from './into'
import { type MadePart, surveyWith } from './testing'
import { LayoutSchema } from './types'

const gib = (n: number) => n * 2 * MIB
const SYSTEM: MadePart = { role: 'system', sectors: gib(80), used: 40 * GIB }
const SOURCE = surveyWith([{ role: 'boot', sectors: 2048 * 100 }, SYSTEM], capacityOf(240))
const VOLUME = 2

/** A drive of 1 TB with what is left behind its partitions unallocated. */
function disk(parts: readonly MadePart[], scheme?: 'gpt' | 'mbr'): DriveSurvey {
  const survey = surveyWith(parts, capacityOf(1000), scheme)
  const firstLba = survey.partitions.at(-1)!.lastLba + 1
  const lastLba = survey.sizeBytes / 512 - 34
  return {
    ...survey,
    gaps: lastLba > firstLba ? [{ firstLba, lastLba, sizeBytes: (lastLba - firstLba + 1) * 512 }] : [],
  }
}
const codeOf = (result: ReturnType<typeof solveInto>) => (result.fits ? 'fits' : result.obstacles[0].code)

describe('one volume of a drive', () => {
  it('goes into the partition that was prepared, which keeps its number and its identity', () => {
    const target = disk([{ role: 'boot', sectors: 2048 * 100 }, SYSTEM, { role: 'data', sectors: gib(200), used: 0 }])
    const result = solveInto(SOURCE, target, VOLUME, { into: 3, labels: { [VOLUME]: 'Second' } })
    expect(result.fits).toBe(true)
    if (!result.fits) return
    const { layout } = result
    expect(LayoutSchema.parse(JSON.parse(JSON.stringify(layout)))).toEqual(JSON.parse(JSON.stringify(layout)))
    const [partition] = layout.partitions
    const prepared = target.partitions[2]
    expect(partition).toMatchObject({
      ...{ number: 3, sourceNumber: VOLUME, guid: prepared.guid, name: prepared.name, label: 'Second', resizes: true },
      ...{ firstLba: prepared.firstLba, lastLba: prepared.lastLba },
    })
    expect([layout.diskGuid, layout.targetSizeBytes]).toEqual([target.table!.diskGuid, target.sizeBytes])
    expect(layout.into).toEqual({ before: prepared.typeGuid, after: prepared.typeGuid })
  })

  it('is proposed the emptiest place that holds no system, and is told why not the others', () => {
    const target = disk([
      { role: 'boot', sectors: 2048 * 100 },
      SYSTEM,
      { role: 'data', sectors: gib(100), used: 30 * GIB },
      { role: 'data', sectors: gib(20), used: 0 },
      { role: 'data', sectors: gib(100), used: GIB },
    ])
    const system = { family: 'windows' as const, name: 'Windows 11 Pro', loaderPath: '', loaderDigest: '' }
    const inUse = { ...target, partitions: target.partitions.map((p) => (p.number === 2 ? { ...p, system } : p)) }
    const places = placesFor(SOURCE, inUse, VOLUME)
    expect(places.map((p) => [p.into, p.obstacle?.code])).toEqual([
      [1, 'in-use'],
      [2, 'in-use'],
      [3, undefined],
      [4, expect.stringMatching(/too-small|below-least/)],
      [5, undefined],
      ['free', undefined],
    ])
    expect(places[1].obstacle!.sentence).toMatch(/Windows 11 Pro/)
    expect(places[3].obstacle!.missingBytes).toBeGreaterThan(0)
    expect(likeliestPlace(places)?.into).toBe(5)
    expect(likeliestPlace(places.filter((p) => p.into === 'free'))?.into).toBe('free')
  })

  it('is laid out nowhere without a place, a table or a number that is left', () => {
    const target = disk([SYSTEM])
    expect(codeOf(solveInto(SOURCE, target, VOLUME, {}))).toBe('nothing')
    expect(codeOf(solveInto(SOURCE, target, VOLUME, { into: 9 }))).toBe('nothing')
    expect(codeOf(solveInto(SOURCE, target, 9, { into: 1 }))).toBe('nothing')
    expect(codeOf(solveInto(SOURCE, { ...target, scheme: 'none' }, VOLUME, { into: 'free' }))).toBe('no-table')
    const four = Array.from({ length: 4 }, (): MadePart => ({
      role: 'data',
      sectors: gib(20),
      mbr: { type: 7, kind: 'primary' },
    }))
    expect(codeOf(solveInto(SOURCE, disk(four, 'mbr'), VOLUME, { into: 'free' }))).toBe('too-many')
    const full = disk([{ role: 'data', sectors: Math.floor(capacityOf(1000) / 512) - 4096 }])
    expect(codeOf(solveInto(SOURCE, full, VOLUME, { into: 'free' }))).toBe('too-small')
  })

  it('gets the type of what it holds, in the words of the table that it comes into', () => {
    const target = disk([{ role: 'data', sectors: gib(100), used: 0, mbr: { type: 0x83, kind: 'primary' } }], 'mbr')
    const result = solveInto(SOURCE, target, VOLUME, { into: 1 })
    expect(result.fits && result.layout.into).toEqual({ before: '83', after: '07' })
    expect(result.fits && result.layout.changes.map((c) => c.what)).toEqual(['type'])
  })
})
