import { beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { formatFat32 } from '../filesystem/fat/format'
import type { NewFile } from '../filesystem/new-files'
import { formatNtfs } from '../filesystem/ntfs/format'
import { defaultWish, solveFit } from '../fit/solve'
import type { FitWish } from '../fit/types'
import { readScheme } from '../scheme'
import { mbrWrites } from '../scheme/mbr-write'
import { surveyDrive } from '../survey/survey'
import type { DriveSurvey } from '../survey/types'
import { pattern, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { planCopy } from './plan'
import { runCopy } from './run'

const SHOWS: readonly NewFile[] = Array.from({ length: 40 }, (_, i) => ({
  path: `/Shows/cue ${i}.dat`,
  content: pattern(60_000 + i * 1000, i),
  fragments: 1 + (i % 7),
  gap: i * 9,
}))
const CODE = pattern(440, 5)
const STAGE = pattern(30 * 512, 6)

let source: MemoryDevice
let survey: DriveSurvey

/** An MBR disk with an active partition, a system volume, and two logical ones behind it. */
beforeAll(async () => {
  source = new MemoryDevice(500 * MIB)
  const sectors = (mib: number) => mib * 2048
  const logical = [
    { type: 7, recordLba: sectors(221), firstLba: sectors(222), sectors: sectors(180) },
    { type: 0x0c, recordLba: sectors(402), firstLba: sectors(403), sectors: sectors(90) },
  ]
  const table = {
    diskSignature: '7b3f0c11',
    bootCode: CODE,
    primary: [
      { type: 7, firstLba: sectors(1), sectors: sectors(20), active: true, number: 1 },
      { type: 7, firstLba: sectors(21), sectors: sectors(200), number: 3 },
    ],
    extended: { number: 4, firstLba: sectors(221), sectors: sectors(279), logical },
  }
  for (const { offset, bytes } of mbrWrites(table, 512)) await source.write(offset, bytes)
  await source.write(512, STAGE)
  const at = (firstLba: number, length: number) => new SliceDevice(source, firstLba * 512, length * 512)
  const ntfs = { time: 1n, serial: 1n }
  await formatNtfs(at(sectors(1), sectors(20)), { ...ntfs, label: 'Start', startSector: sectors(1), files: [] })
  await formatNtfs(at(sectors(21), sectors(200)), {
    ...ntfs,
    label: 'Lighting',
    startSector: sectors(21),
    files: SHOWS,
  })
  await formatNtfs(at(sectors(222), sectors(180)), { ...ntfs, label: 'Shows', startSector: sectors(222), files: SHOWS })
  await formatFat32(at(sectors(403), sectors(90)), {
    label: 'STICK',
    serial: 4,
    startSector: sectors(403),
    files: SHOWS,
  })
  survey = await surveyDrive(source, sha256)
})

async function copied(wish: FitWish, targetMib: number): Promise<{ target: MemoryDevice; after: DriveSurvey }> {
  const target = new MemoryDevice(targetMib * MIB)
  const fit = solveFit(survey, { sizeBytes: target.size, logicalSectorSize: 512 }, wish)
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const plan = await planCopy(readOnly(source), fit.layout)
  await runCopy(plan, target, { digest: blake3, note: 'Lighting desk', onStep: async () => {} })
  const after = await surveyDrive(target, sha256)
  expect(after.partitions.filter((p) => p.role !== 'extended').map((p) => [p.number, p.firstLba, p.lastLba])).toEqual(
    [...fit.layout.partitions].map((p) => [p.number, p.firstLba, p.lastLba]),
  )
  return { target, after }
}

/** Files whose first sector the plan does not trace back to where it lies on the source. */
async function differing(target: MemoryDevice, targetMib: number): Promise<number> {
  const fit = solveFit(survey, { sizeBytes: targetMib * MIB, logicalSectorSize: 512 }, defaultWish(survey))
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const plan = await planCopy(readOnly(source), fit.layout)
  const moved = []
  for (const file of SHOWS) {
    const at = await placeOf(source, survey, file.path)
    const to = await placeOf(target, await surveyDrive(target, sha256), file.path)
    if (plan.origins({ offset: to, length: 512 })[0].from !== at) moved.push(file.path)
  }
  return moved.length
}

/** Byte of the drive at which a file of the system volume begins. */
async function placeOf(device: BlockDevice, drive: DriveSurvey, path: string): Promise<number> {
  const { startBytes, sizeBytes } = drive.partitions.find((p) => /Lighting/.test(p.title))!
  const volume = await openFileSystem(new SliceDevice(device, startBytes, sizeBytes))
  return startBytes + (await volume!.fileExtents!(path))[0].offset
}

async function expectShows(device: BlockDevice, after: DriveSurvey, title: RegExp): Promise<void> {
  const partition = after.partitions.find((p) => title.test(p.title))!
  const volume = await openFileSystem(new SliceDevice(device, partition.startBytes, partition.sizeBytes))
  expect(volume!.findings).toEqual([])
  for (const file of SHOWS) {
    expect(sameBytes(await volume!.readFile(file.path), (file as { content: Uint8Array }).content)).toBe(true)
  }
}

describe('an MBR disk with logical partitions', () => {
  it('goes onto a smaller drive with every file, its code and its numbers', async () => {
    const { target, after } = await copied(defaultWish(survey), 420)
    expect(after.scheme).toBe('mbr')
    expect(after.findings.filter((f) => f.severity !== 'note')).toEqual([])
    expect(after.mbr).toEqual(survey.mbr)
    expect(after.partitions.map((p) => [p.number, p.mbr!.type, p.mbr!.active])).toEqual(
      survey.partitions.map((p) => [p.number, p.mbr!.kind === 'extended' ? 0x0f : p.mbr!.type, p.mbr!.active]),
    )
    expect(sameBytes((await readBytes(target, 0, 440)).slice(), CODE)).toBe(true)
    expect(sameBytes(await readBytes(target, 512, STAGE.length), STAGE)).toBe(true)
    for (const title of [/Lighting/, /Shows/, /STICK/]) await expectShows(target, after, title)
    const shrunk = after.partitions.find((p) => /Lighting/.test(p.title))!
    expect(await differing(target, 420)).toBe(0)
    expect(shrunk.sizeBytes).toBeLessThan(200 * MIB)
  })

  it('goes onto the smallest drive that its files need', async () => {
    const rules = Object.fromEntries(survey.partitions.map((p) => [p.number, 'least'] as const))
    const { target, after } = await copied({ rules, sizes: {}, reserve: 0 }, 110)
    for (const title of [/Lighting/, /Shows/, /STICK/]) await expectShows(target, after, title)
  })

  it('becomes a GPT, larger, with its order changed and a partition left out', async () => {
    const wish: FitWish = { ...defaultWish(survey), scheme: 'gpt', order: [5, 3], leaveOut: [6] }
    const { target, after } = await copied(wish, 900)
    expect(after.scheme).toBe('gpt')
    expect(after.partitions.map((p) => p.number)).toEqual([5, 3, 1])
    for (const title of [/Lighting/, /Shows/]) await expectShows(target, after, title)
  })
})

describe('a GPT disk', () => {
  it('becomes an MBR, without the partition that has no use there', async () => {
    const disk = await makeSystemDisk()
    const before = await surveyDrive(disk, sha256)
    const fit = solveFit(
      before,
      { sizeBytes: 500 * MIB, logicalSectorSize: 512 },
      { ...defaultWish(before), scheme: 'mbr' },
    )
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    const target = new MemoryDevice(500 * MIB)
    const plan = await planCopy(readOnly(disk), fit.layout)
    await runCopy(plan, target, { digest: blake3, note: '', onStep: async () => {} })
    const reading = await readScheme(target)
    expect(reading?.scheme).toBe('mbr')
    expect(reading?.partitions.map((p) => [p.number, p.mbr!.type])).toEqual([
      [1, 0xef],
      [2, 7],
      [3, 0x27],
    ])
  })
})
