import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes, writeBytes } from '../block/device'
import { unionExtents } from '../block/extents'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { checkMap } from '../filesystem/map-check'
import { formatHfsPlus } from '../filesystem/hfsplus/format'
import { callFree } from '../filesystem/ntfs/testing'
import { rehearseFit } from '../fit/rehearse'
import { solveFit } from '../fit/solve'
import { type MapTaken, usedExtentsOf } from '../image/used'
import { surveyDrive } from '../survey/survey'
import { pattern, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { planCopy } from './plan'
import { runCopy } from './run'

const SIZE = 320 * MIB
const CONTENT = pattern(2 * MIB, 5)
const PATH = '/Charts/harbour.dat'

/** A system disk whose map has the clusters of one file as free, though it calls itself clean. */
async function lyingDisk(): Promise<{ disk: BlockDevice; system: SliceDevice; startBytes: number }> {
  const disk = new OverlayDevice(
    await makeSystemDisk({ sizeBytes: SIZE, systemFiles: [{ path: PATH, content: CONTENT }] }),
  )
  const { startBytes, sizeBytes } = (await surveyDrive(disk, sha256)).partitions.find((p) => p.role === 'system')!
  const system = new SliceDevice(disk, startBytes, sizeBytes)
  await callFree(system, PATH)
  return { disk, system, startBytes }
}

describe('a map of used blocks that misses some', () => {
  it('is found, with the files that use them', async () => {
    const { system } = await lyingDisk()
    const volume = (await openFileSystem(system))!
    expect(volume.state).toBe('clean')
    const check = (await checkMap(volume))!
    expect(check.files).toEqual([PATH])
    expect(check.missing.reduce((sum, e) => sum + e.length, 0)).toBe(2 * MIB)
  })

  it('is copied together with what it misses, and its volume keeps its size', async () => {
    const { disk } = await lyingDisk()
    const survey = await surveyDrive(disk, sha256)
    const larger = solveFit(survey, { sizeBytes: 400 * MIB, logicalSectorSize: 512 })
    if (!larger.fits) throw new Error('it fits')
    expect(await rehearseFit(disk, larger.layout)).toMatchObject([{ code: 'does-not-resize' }])
    await expect(planCopy(readOnly(disk), larger.layout)).rejects.toThrow(/harbour\.dat/)
    const same = solveFit(survey, { sizeBytes: SIZE, logicalSectorSize: 512 }, { rules: {}, sizes: {}, reserve: 0 })
    if (!same.fits) throw new Error(same.obstacles[0].sentence)
    const plan = await planCopy(readOnly(disk), same.layout)
    const scope = plan.partitions.find((p) => p.map === 'missed')!
    expect(scope.mapFinding).toContain(PATH)
    const target = new MemoryDevice(SIZE)
    await runCopy(plan, target, { digest: blake3, note: 'x', onStep: async () => {} })
    const placed = same.layout.partitions.find((p) => p.role === 'system')!
    const slice = new SliceDevice(target, placed.firstLba * 512, (placed.lastLba - placed.firstLba + 1) * 512)
    expect(sameBytes(await (await openFileSystem(slice))!.readFile(PATH), CONTENT)).toBe(true)
    // Believed blindly, the copy would have a hole there.
    const blind = await planCopy(readOnly(disk), same.layout, { mapsUnchecked: true })
    expect(blind.partitions.find((p) => p.number === scope.number)!.map).toBe('unchecked')
    expect(scope.bytes - blind.partitions.find((p) => p.number === scope.number)!.bytes).toBe(2 * MIB)
  })

  it('is taken along in an image of what is used, and said', async () => {
    const { disk, startBytes, system } = await lyingDisk()
    const told: MapTaken[] = []
    const extents = []
    for await (const extent of usedExtentsOf(disk, (map) => told.push(map))) extents.push(extent)
    const [{ offset, length }] = await (await openFileSystem(system))!.fileExtents!(PATH)
    const at = startBytes + offset
    const held = unionExtents(extents, []).some((e) => e.offset <= at && at + length <= e.offset + e.length)
    expect(held).toBe(true)
    expect(told.every((map) => map.checked)).toBe(true)
    expect(told.flatMap((map) => map.finding ?? [])).toEqual([expect.stringContaining(PATH)])
  })

  it('is found on a FAT volume, too, whose table lost the end of a chain', async () => {
    const disk = new OverlayDevice(await makeSystemDisk({ sizeBytes: SIZE }))
    const { startBytes, sizeBytes } = (await surveyDrive(disk, sha256)).partitions.find((p) => p.role === 'boot')!
    const esp = new SliceDevice(disk, startBytes, sizeBytes)
    const volume = (await openFileSystem(esp))!
    expect((await checkMap(volume))!.missing).toEqual([])
    const path = '/EFI/BOOT/BOOTX64.EFI'
    const [first] = await volume.fileExtents!(path)
    // Both copies of the table have the file's first cluster as free.
    const boot = await readBytes(esp, 0, 512)
    const view = new DataView(boot.buffer, boot.byteOffset)
    const [reserved, copies, sectors] = [view.getUint16(14, true), boot[16], view.getUint32(36, true)]
    const cluster = (first.offset - (reserved + copies * sectors) * 512) / volume.clusterSize + 2
    for (let copy = 0; copy < copies; copy++) {
      await writeBytes(esp, (reserved + copy * sectors) * 512 + cluster * 4, new Uint8Array(4))
    }
    expect((await checkMap((await openFileSystem(esp))!))!.files).toEqual([path])
  })

  it('is found on an HFS+ volume, too, for a file and for what is the volume’s own', async () => {
    const device = new MemoryDevice(16 * MIB)
    const files = [
      { path: '/Charts/harbour.dat', content: pattern(300_000, 1) },
      { path: '/Charts/pilot.dat', content: pattern(10_000, 2) },
    ]
    await formatHfsPlus(device, { label: 'Charts', volumeId: 1n, time: 1, files })
    const volume = (await openFileSystem(device))!
    expect(await checkMap(volume)).toMatchObject({ missing: [], files: [] })
    const [{ offset, length }] = await volume.fileExtents!(files[0].path)
    const callBlocksFree = async (from: number, bytes: number) => {
      // The allocation file begins in block 1; its highest bits come first.
      const map = new Uint8Array(await readBytes(device, volume.clusterSize, volume.clusterSize))
      for (let block = from / volume.clusterSize; block * volume.clusterSize < from + bytes; block++) {
        map[block >> 3] &= ~(0x80 >> (block & 7))
      }
      await writeBytes(device, volume.clusterSize, map)
    }
    await callBlocksFree(offset, length)
    expect(await checkMap((await openFileSystem(device))!)).toMatchObject({
      missing: [{ offset, length }],
      files: [files[0].path],
    })
    // The catalog, whose first block is the fork that its header names.
    const header = new DataView((await readBytes(device, 1024, 512)).slice().buffer)
    await callBlocksFree(header.getUint32(272 + 16) * volume.clusterSize, volume.clusterSize)
    expect((await checkMap((await openFileSystem(device))!))!.files).toEqual(['the catalog', files[0].path])
  })

  it('is no finding of a sound volume', async () => {
    const disk = await makeSystemDisk({ sizeBytes: SIZE })
    for (const { firstLba, lastLba, volume: found } of (await surveyDrive(disk, sha256)).partitions) {
      if (!found) continue
      const volume = (await openFileSystem(new SliceDevice(disk, firstLba * 512, (lastLba - firstLba + 1) * 512)))!
      expect((await checkMap(volume))?.missing ?? []).toEqual([])
    }
  })
})
