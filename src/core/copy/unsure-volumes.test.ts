import { beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { solveFit } from '../fit/solve'
import type { FitWish } from '../fit/types'
import { usedExtentsOf } from '../image/used'
import { readGpt, writeGpt } from '../scheme/gpt'
import { surveyDrive } from '../survey/survey'
import type { DriveSurvey } from '../survey/types'
import { collect, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { planCopy } from './plan'
import { runCopy } from './run'

// Volumes whose own records cannot be relied on: each is taken sector by sector, and the others go as they would.

const SIZE = 320 * MIB
const LARGER = 400 * MIB
let disk: MemoryDevice
let survey: DriveSurvey

beforeAll(async () => {
  disk = await makeSystemDisk({ sizeBytes: SIZE })
  survey = await surveyDrive(disk, sha256)
})

const part = (number: number) => survey.partitions.find((p) => p.number === number)!
const options = { digest: blake3, note: 'x', onStep: async () => {} }

/** The disk with bytes of one partition changed. */
async function changed(number: number, at: number, change: (sector: Uint8Array) => void): Promise<OverlayDevice> {
  const overlay = new OverlayDevice(disk)
  const place = part(number).startBytes + Math.floor(at / 512) * 512
  const sector = (await readBytes(overlay, place, 512)).slice()
  change(sector)
  await overlay.write(place, sector)
  return overlay
}

async function copied(source: BlockDevice, wish?: FitWish) {
  const found = await surveyDrive(source, sha256)
  const fit = solveFit(found, { sizeBytes: LARGER, logicalSectorSize: 512 }, wish)
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const target = new MemoryDevice(LARGER)
  const plan = await planCopy(readOnly(source), fit.layout)
  const outcome = await runCopy(plan, target, options)
  return { found, fit, plan, target, outcome }
}

/** Where NTFS keeps the flags of a volume, from its start. */
async function volumeFlagsAt(number: number): Promise<number> {
  const slice = new SliceDevice(disk, part(number).startBytes, part(number).sizeBytes)
  const { NtfsVolume } = await import('../filesystem/ntfs/volume')
  const volume = await NtfsVolume.open(slice)
  const record = await volume.record(3)
  const information = record.attributes.find((a) => a.type === 0x70)!
  return volume.recordOffset(3) + information.at + 24 + 10
}

describe('a volume that was not closed cleanly', () => {
  it('is copied sector by sector, keeps its size, and the reason is told in survey, fit and plan', async () => {
    const at = await volumeFlagsAt(3)
    const source = await changed(3, at, (sector) => (sector[at % 512] |= 1))
    const { found, fit, plan, target } = await copied(source)
    const system = found.partitions.find((p) => p.number === 3)!
    expect(system.volume!.everySector).toBeDefined()
    expect(system.findings.map((f) => f.code)).toEqual(expect.arrayContaining(['ntfs.dirty', 'volume.every-sector']))
    expect(fit.notes.some((n) => n.tone === 'caution' && n.sentence.includes(system.title))).toBe(true)
    const scope = plan.partitions.find((p) => p.number === 3)!
    expect(scope).toMatchObject({ mode: 'every', bytes: system.sizeBytes })
    expect(scope.everySector).toBe(system.volume!.everySector)
    // The others go by their maps.
    expect(plan.partitions.find((p) => p.number === 4)).toMatchObject({ mode: 'used' })
    const placed = fit.layout.partitions.find((p) => p.sourceNumber === 3)!
    expect(placed.resizes).toBe(false)
    for (let from = 512; from < system.sizeBytes; from += 8 * MIB) {
      const bytes = Math.min(MIB, system.sizeBytes - from)
      const [a, b] = [
        await readBytes(source, system.startBytes + from, bytes),
        await readBytes(target, placed.firstLba * 512 + from, bytes),
      ]
      expect(sameBytes(a, b), `byte ${from}`).toBe(true)
    }
  })

  it('is captured whole', async () => {
    const at = await volumeFlagsAt(3)
    const source = await changed(3, at, (sector) => (sector[at % 512] |= 1))
    const { startBytes, sizeBytes } = part(3)
    const taken = (await collect(usedExtentsOf(source)))
      .map(({ offset, length }) => Math.min(offset + length, startBytes + sizeBytes) - Math.max(offset, startBytes))
      .filter((bytes) => bytes > 0)
    expect(taken.reduce((a, b) => a + b, 0)).toBe(sizeBytes)
  })
})

describe('a damaged volume', () => {
  it('that claims more than its partition has is taken sector by sector, its files are shown, and the others may grow', async () => {
    const source = new OverlayDevice(disk)
    const { table } = (await readGpt(source))!
    const partitions = table.partitions.map((p) => (p.number === 4 ? { ...p, lastLba: p.lastLba - 4000 } : p))
    await writeGpt(source, { ...table, partitions })
    const { found, fit, plan, target } = await copied(source)
    const damaged = found.partitions.find((p) => p.number === 4)!
    expect(damaged.volume).toMatchObject({ state: 'damaged', depth: 'files', label: 'Recovery', canGrow: false })
    expect(plan.partitions.find((p) => p.number === 4)).toMatchObject({ mode: 'every', bytes: damaged.sizeBytes })
    const grown = fit.layout.partitions.find((p) => p.sourceNumber === 3)!
    expect(grown.resizes).toBe(true)
    const slice = new SliceDevice(target, grown.firstLba * 512, (grown.lastLba - grown.firstLba + 1) * 512)
    expect((await openFileSystem(slice))!.totalBytes).toBeGreaterThan(part(3).sizeBytes)
    const placed = fit.layout.partitions.find((p) => p.sourceNumber === 4)!
    const [a, b] = [
      await readBytes(source, damaged.startBytes + 512, damaged.sizeBytes - 512),
      await readBytes(target, placed.firstLba * 512 + 512, damaged.sizeBytes - 512),
    ]
    expect(sameBytes(a, b)).toBe(true)
  })

  it('whose start does not read is copied, with what was lost named', async () => {
    const lost = new FaultyDevice(disk, [
      { firstLba: part(4).firstLba, count: 1 },
      { firstLba: part(4).lastLba, count: 1 },
    ])
    const { outcome } = await copied(lost)
    expect(outcome.lost.reduce((sum, run) => sum + run.sectors, 0)).toBe(2)
    expect(outcome.lost.map((run) => run.sourceLba)).toContain(part(4).firstLba)
  })
})

describe('a volume on which a system sleeps', () => {
  it('keeps its size, whatever the layout asks', async () => {
    const asleep = await makeSystemDisk({
      sizeBytes: SIZE,
      systemFiles: [{ path: '/hiberfil.sys', content: new TextEncoder().encode('hibr'.padEnd(8192, 'x')) }],
    })
    const awake = solveFit(survey, { sizeBytes: LARGER, logicalSectorSize: 512 })
    if (!awake.fits) throw new Error('it fits')
    expect(awake.layout.partitions.some((p) => p.resizes)).toBe(true)
    await expect(planCopy(readOnly(asleep), awake.layout)).rejects.toThrow(/sleeps/)
  })
})
