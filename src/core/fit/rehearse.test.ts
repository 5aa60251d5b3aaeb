import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { surveyDrive } from '../survey/survey'
import { rehearsed, rehearseFit } from './rehearse'
import { solveFit } from './solve'

describe('a fit that is rehearsed', () => {
  it('stands where the volumes go into it, and falls where one does not', async () => {
    const source = await makeSystemDisk({ sizeBytes: 320 * MIB })
    const survey = await surveyDrive(source, sha256)
    const fit = solveFit(survey, { sizeBytes: 260 * MIB, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    expect(fit.layout.partitions.some((p) => p.resizes)).toBe(true)
    expect(await rehearsed(source, fit)).toBe(fit)
    // The same layout for less than the system volume holds.
    const system = fit.layout.partitions.find((p) => p.role === 'system')!
    const least = Math.floor(survey.partitions.find((p) => p.role === 'system')!.volume!.usedBytes / 2 / 512)
    const tight = {
      ...fit.layout,
      partitions: fit.layout.partitions.map((p) => (p === system ? { ...p, lastLba: p.firstLba + least - 1 } : p)),
    }
    const [obstacle, ...more] = await rehearseFit(source, tight)
    expect(more).toEqual([])
    expect(obstacle).toMatchObject({ code: 'does-not-resize', partition: system.sourceNumber })
    expect(obstacle.sentence).toContain(system.title)
  })

  it('needs nothing of a drive whose volumes only grow', async () => {
    const source = await makeSystemDisk({ sizeBytes: 320 * MIB })
    const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: 400 * MIB, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    const gone = new MemoryDevice(320 * MIB)
    expect(await rehearseFit(gone, fit.layout)).toEqual([])
  })
})

describe('a full drive onto one of its size', () => {
  it('keeps every place, also where the first partition begins at sector 63', async () => {
    const source = await makeSystemDisk({ sizeBytes: 320 * MIB })
    const survey = await surveyDrive(source, sha256)
    const last = (320 * MIB) / 512 - 1
    const [first, second] = survey.partitions
      .filter((p) => p.volume)
      .map((p) => ({ ...p, volume: undefined, findings: [] }))
    const place = (p: typeof first, number: number, firstLba: number, lastLba: number) => ({
      ...p,
      number,
      firstLba,
      lastLba,
      startBytes: firstLba * 512,
      sizeBytes: (lastLba - firstLba + 1) * 512,
      mbr: { type: 7, active: number === 1, kind: 'primary' as const, recordLba: 0 },
    })
    const full = {
      ...survey,
      scheme: 'mbr' as const,
      table: undefined,
      mbr: { diskSignature: '5a3c91e4', hasBootCode: true, activePartition: 1 },
      partitions: [place(first, 1, 63, 204_862), place(second, 2, 204_863, last)],
      gaps: [],
    }
    const fit = solveFit(full, { sizeBytes: 320 * MIB, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    expect(fit.layout.partitions.map((p) => [p.firstLba, p.lastLba])).toEqual([
      [63, 204_862],
      [204_863, last],
    ])
    expect(fit.reason).toMatch(/keeps its size and its place/)
    expect(fit.layout.startArea.lastLba).toBe(62)
  })
})
