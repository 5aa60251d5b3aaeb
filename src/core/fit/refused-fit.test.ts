import { describe, expect, it } from 'vitest'
import { GIB, MIB, TIB } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'
import { defaultWish, solveFit } from './solve'
import { startingPoints } from './starts'
import { type MadePart, SHRINKS, surveyWith } from './testing'
import { fitSizes, type FitFails, type FitFits, type FitTarget, type FitWish } from './types'

const NOTHING: FitWish = { rules: {}, sizes: {}, reserve: 0 }
const drive = (sizeBytes: number, logicalSectorSize = 512): FitTarget => ({ sizeBytes, logicalSectorSize })
const sectors = (mib: number) => mib * 2048

const SYSTEM: MadePart = { role: 'system', sectors: sectors(40 * 1024), volume: SHRINKS(25 * GIB) }
const DATA: MadePart = { role: 'data', sectors: sectors(20 * 1024), volume: SHRINKS(4 * GIB) }
const DISK = surveyWith([{ role: 'boot', sectors: sectors(100) }, SYSTEM, DATA], 64 * GIB)

function refused(survey: DriveSurvey, target: FitTarget, wish: Partial<FitWish> = {}): FitFails {
  const result = solveFit(survey, target, { ...NOTHING, ...wish })
  expect(result.fits).toBe(false)
  return result as FitFails
}

function fitted(survey: DriveSurvey, target: FitTarget, wish: Partial<FitWish> = {}): FitFits {
  const result = solveFit(survey, target, { ...NOTHING, ...wish })
  if (!result.fits) throw new Error(result.obstacles[0].sentence)
  return result
}

/** What is offered instead, which has to work. */
function offered(survey: DriveSurvey, target: FitTarget, result: FitFails): FitFits {
  expect(result.nearest?.says).toBeTruthy()
  return fitted(survey, target, result.nearest!.wish)
}

describe('what cannot be laid out', () => {
  it('says how much is missing, to the sector, and which volume could shed it', () => {
    const exact = fitted(DISK, drive(64 * GIB)).layout.partitions.at(-1)!
    // A GPT keeps 33 sectors at the end.
    const least = (exact.lastLba + 1 + 33) * 512
    expect(solveFit(DISK, drive(least), NOTHING).fits).toBe(true)
    const result = refused(DISK, drive(least - 512))
    expect(result.obstacles[0]).toMatchObject({ code: 'too-small', missingBytes: 512, partition: 3 })
    expect(result.obstacles[0].sentence).toMatch(/512 bytes too small for what is asked\. data could shed 16\.0 GiB/)
    expect(result.nearest!.says).toBe('data takes what is left')
    offered(DISK, drive(least - 512), result)
  })

  it('names the target that would do when nothing can be shed', () => {
    const result = refused(DISK, drive(16 * GIB), defaultWish(DISK))
    expect(result.nearest).toBeUndefined()
    expect(result.obstacles[0].mend).toMatch(/take a target of [\d.]+ GiB or more/)
    const named = Number(/target of ([\d.]+) GiB/.exec(result.obstacles[0].mend)![1])
    expect(solveFit(DISK, drive(named * GIB), defaultWish(DISK)).fits).toBe(true)
    // Rounded for the eye it must not fall below what is needed, whatever the unit.
    for (const mib of [1990 * 1024 + 7, 9 * 1024 + 55]) {
      const huge = surveyWith([{ role: 'data', sectors: sectors(mib) }], 4 * TIB)
      const [, size, unit] = /target of ([\d.]+) (\wiB)/.exec(refused(huge, drive(GIB)).obstacles[0].mend)!
      expect(Number(size) * (unit === 'TiB' ? TIB : GIB)).toBeGreaterThan(mib * MIB)
    }
  })

  it('is a size below the least, above what the kind can be, or on a volume that must not change', () => {
    const below = refused(DISK, drive(TIB), { rules: { 2: 'set' }, sizes: { 2: 10 * GIB } })
    expect(below.obstacles[0]).toMatchObject({ code: 'below-least', partition: 2, missingBytes: 15 * GIB })
    expect(below.obstacles[0].mend).toMatch(/because a hundredth stays free/)
    expect(fitSizes(offered(DISK, drive(TIB), below).layout.partitions[1], fitted(DISK, drive(TIB)).layout).after).toBe(
      25 * GIB,
    )
    const fat = surveyWith([{ ...DATA, volume: { canGrow: true, mostBytes: 30 * GIB, name: 'FAT32' } }], 64 * GIB)
    const above = refused(fat, drive(TIB), { rules: { 1: 'set' }, sizes: { 1: 40 * GIB } })
    expect(above.obstacles[0]).toMatchObject({ code: 'above-most', partition: 1 })
    offered(fat, drive(TIB), above)
    for (const [volume, sentence] of [
      [{ ...SHRINKS(GIB), state: 'dirty' as const }, /not closed cleanly/],
      [{ ...SHRINKS(GIB), encrypted: true }, /needs at least/],
    ] as const) {
      const open = surveyWith([{ ...DATA, volume }], 64 * GIB)
      const result = refused(open, drive(TIB), { rules: { 1: 'set' }, sizes: { 1: 10 * GIB } })
      expect(result.obstacles[0].sentence).toMatch(sentence)
      offered(open, drive(TIB), result)
    }
    const asleep = surveyWith([DATA], 64 * GIB)
    asleep.partitions[0].idleFiles = [{ path: '/hiberfil.sys', kind: 'hibernation', sizeBytes: 1, asleep: true }]
    const result = refused(asleep, drive(TIB), { rules: { 1: 'set' }, sizes: { 1: 10 * GIB } })
    expect(result.obstacles[0]).toMatchObject({ code: 'not-clean' })
  })

  it('is a drive with other sectors under a volume that counts in them', () => {
    const result = refused(DISK, drive(TIB, 4096))
    expect(result.obstacles).toHaveLength(3)
    expect(result.obstacles[1].sentence).toMatch(
      /sectors of 4096 bytes and the source of 512: system holds a volume with NTFS/,
    )
    const free = surveyWith([{ ...DATA, volume: { anySectors: true, canGrow: true } }], 64 * GIB)
    const { layout, notes } = fitted(free, drive(TIB, 4096), { rules: { 1: 'fill' } })
    expect([layout.sectorSize, layout.sourceSectorSize, layout.partitions[0].firstLba]).toEqual([4096, 512, 256])
    expect(fitSizes(layout.partitions[0], layout).before).toBe(20 * GIB)
    expect(notes.at(-1)!.sentence).toMatch(/does not count in them/)
  })

  it('is more than an MBR has room for, or reaches', () => {
    const five = surveyWith([DATA, DATA, DATA, DATA, DATA], 128 * GIB)
    const many = refused(five, drive(TIB), { scheme: 'mbr' })
    expect(many.obstacles[0].sentence).toBe('An MBR has room for four partitions, and these are 5.')
    offered(five, drive(TIB), many)
    const mbr = surveyWith([DATA], 64 * GIB, 'mbr')
    const far = refused(mbr, drive(4 * TIB), { rules: { 1: 'set' }, sizes: { 1: 3 * TIB } })
    expect(far.obstacles[0]).toMatchObject({ code: 'beyond-2tib' })
    expect(offered(mbr, drive(4 * TIB), far).layout.scheme).toBe('gpt')
    const filled = fitted(mbr, drive(4 * TIB), { rules: { 1: 'fill' } })
    expect(filled.notes.map((n) => n.sentence).join()).toMatch(/of this drive cannot be used with it/)
    expect(filled.layout.partitions[0].lastLba).toBeLessThan(2 ** 32)
  })

  it('is a primary partition between logical ones', () => {
    const logical = { type: 7, kind: 'logical' as const }
    const mbr = surveyWith(
      [
        { ...DATA, mbr: { type: 7, kind: 'primary' } },
        { ...DATA, mbr: logical },
        { ...DATA, mbr: logical },
      ],
      128 * GIB,
      'mbr',
    )
    const result = refused(mbr, drive(TIB), { order: [5, 1, 6] })
    expect(result.obstacles[0]).toMatchObject({ code: 'order', partition: 1 })
    offered(mbr, drive(TIB), result)
    expect(
      fitted(mbr, drive(TIB), { order: [6, 5, 1] }).layout.partitions.map((p) => [p.sourceNumber, p.number]),
    ).toEqual([
      [6, 5],
      [5, 6],
      [1, 1],
    ])
  })

  it('is nothing at all, or a drive without a table', () => {
    expect(refused(DISK, drive(TIB), { leaveOut: [1, 2, 3] }).obstacles[0].code).toBe('nothing')
    expect(refused({ ...DISK, scheme: 'damaged' }, drive(TIB)).obstacles[0].code).toBe('no-table')
  })
})

describe('what a fit tells', () => {
  it('is what shrinks, and that no file is left out', () => {
    const result = fitted(DISK, drive(50 * GIB), defaultWish(DISK))
    expect(result.headline).toMatch(/^It fits, with 4\.\d GiB to spare$/)
    expect(result.reason).toMatch(
      /system shrinks from 40\.0 GiB to 29\.\d GiB\. What lies behind the new end moves forward/,
    )
  })

  it('is that two volumes share what is left, and how the rest of a partition is taken later', () => {
    const still = surveyWith(
      [
        { role: 'data', sectors: sectors(1024), volume: { kind: 'hfsplus', name: 'HFS+', canGrow: false } },
        { role: 'data', sectors: sectors(1024), volume: { kind: 'bitlocker', encrypted: true, canGrow: false } },
      ],
      4 * GIB,
    )
    const { notes, layout } = fitted(still, drive(8 * GIB), { rules: { 1: 'fill', 2: 'fill' } })
    expect(notes.map((n) => n.sentence).join(' ')).toMatch(
      /stays unused until its system can take the rest by enlarging the volume.*extending the volume once it is open.*share what is left in equal parts/,
    )
    const [a, b] = layout.partitions.map((p) => fitSizes(p, layout).after)
    expect(Math.abs(a - b)).toBeLessThanOrEqual(MIB)
    expect(layout.partitions.map((p) => p.resizes)).toEqual([false, false])
  })

  it('is each identity that changes, with what refers to it', () => {
    const seed = '6f0d2c1b-7a3e-4d5f-9b8c-0123456789ab'
    const { layout } = fitted(DISK, drive(TIB), { identity: { of: 'all', seed }, leaveOut: [1] })
    expect(layout.diskGuid).toBe(seed)
    expect(layout.changes.map((c) => [c.partition, c.what])).toEqual([
      [1, 'left out'],
      [null, 'disk identity'],
      [2, 'partition identity'],
      [3, 'partition identity'],
    ])
    expect(layout.changes[0].sentence).toMatch(/most likely not start/)
    expect(new Set(layout.partitions.map((p) => p.guid)).size).toBe(2)
    const mbr = fitted(surveyWith([DATA], 64 * GIB, 'mbr'), drive(TIB), { scheme: 'gpt' }).layout
    expect(mbr.changes.map((c) => c.what)).toEqual(['table', 'type'])
    expect(mbr.diskGuid).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-8[0-9a-f]{3}-a[0-9a-f]{3}-[0-9a-f]{12}$/)
  })

  it('keeps what a hybrid MBR names', () => {
    const hybrid = {
      ...DISK,
      table: { ...DISK.table!, hybridMbr: true, hybrid: [{ number: 3, type: 7, active: true }] },
    }
    expect(fitted(hybrid, drive(TIB)).layout.hybrid).toEqual([{ number: 3, type: 7, active: true }])
    const less = fitted(hybrid, drive(TIB), { leaveOut: [3] })
    expect(less.layout.hybrid).toEqual([])
    expect(less.notes[0].sentence).toMatch(/names fewer on the target/)
  })
})

describe('the starting points', () => {
  it('each work on a larger drive, and the smallest on a smaller one', () => {
    for (const { wish, id } of startingPoints(DISK)) {
      expect(solveFit(DISK, drive(TIB), wish).fits, id).toBe(true)
      expect(solveFit(DISK, drive(31 * GIB), wish).fits, id).toBe(id === 'smallest' || id === 'proportion')
    }
  })
})
