import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, type Extent, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { sliceOf } from '../boot/start'
import { readScheme } from '../scheme'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_TYPES } from '../scheme/mbr-layout'
import { surveyDrive } from '../survey/survey'
import { collect, pattern, runsOf, sameBytes } from '../testing'
import { makeBiosDisk, makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { storedExtents, usedExtentsOf } from './used'

let disk: MemoryDevice
const content = pattern(400_000, 3)

beforeAll(async () => {
  disk = await makeSystemDisk({ systemFiles: [{ path: '/large.bin', content }] })
})

/** In order, apart from each other, in whole sectors and on the drive. */
function expectSound(extents: readonly Extent[], device: BlockDevice): void {
  let end = 0
  for (const { offset, length } of extents) {
    expect(offset).toBeGreaterThanOrEqual(end)
    expect(length).toBeGreaterThan(0)
    expect([offset % 512, length % 512]).toEqual([0, 0])
    end = offset + length
  }
  expect(end).toBeLessThanOrEqual(device.size)
}

async function copyOf(device: BlockDevice, extents: readonly Extent[]): Promise<MemoryDevice> {
  const copy = new MemoryDevice(device.size)
  for (const { offset, length } of extents)
    for (let at = offset; at < offset + length; at += 4 * MIB)
      await copy.write(at, await readBytes(device, at, Math.min(4 * MIB, offset + length - at)))
  return copy
}

describe('what is in use on a drive', () => {
  it('is enough for every table and file, and leaves free clusters out', async () => {
    for (const device of [disk, await makeBiosDisk()]) {
      const extents = await collect(usedExtentsOf(device))
      expectSound(extents, device)
      const bytes = extents.reduce((sum, e) => sum + e.length, 0)
      expect(bytes).toBeLessThan(device.size / 2)
      const copy = await copyOf(device, extents)
      const { partitions } = await surveyDrive(copy, sha256)
      expect(partitions).toEqual((await surveyDrive(device, sha256)).partitions)
    }
    const copy = await copyOf(disk, await collect(usedExtentsOf(disk)))
    const volume = (await openFileSystem(sliceOf(copy, (await readScheme(copy))!.partitions[2])))!
    expect(sameBytes(await volume.readFile('/large.bin'), content)).toBe(true)
  })

  it('is all of a drive without a table', async () => {
    const bare = new MemoryDevice(8 * MIB)
    expect(await collect(usedExtentsOf(bare))).toEqual([{ offset: 0, length: 8 * MIB }])
  })

  it('is all of a volume that contradicts itself', async () => {
    const { partitions } = (await readScheme(disk))!
    const system = sliceOf(disk, partitions[2])
    const damaged = new OverlayDevice(disk)
    const boot = (await readBytes(disk, partitions[2].firstLba * 512, 512)).slice()
    boot.fill(0xff, 40, 64)
    await damaged.write(partitions[2].firstLba * 512, boot)
    const extents = await collect(usedExtentsOf(damaged))
    expectSound(extents, damaged)
    const start = partitions[2].firstLba * 512
    expect(extents.some((e) => e.offset <= start && e.offset + e.length >= start + system.size)).toBe(true)
  })

  it('is named once where partitions overlap, or reach beyond the drive', async () => {
    const places = fc.record({
      first: fc.integer({ min: 1, max: 17_000 }),
      sectors: fc.integer({ min: 1, max: 17_000 }),
    })
    await fc.assert(
      fc.asyncProperty(fc.array(places, { minLength: 1, maxLength: 4 }), async (all) => {
        const device = new MemoryDevice(8 * MIB)
        const head = pattern(512, 1)
        head.fill(0, MBR_RECORDS_OFFSET)
        for (const [i, { first, sectors }] of all.entries())
          MBR_RECORD.write(head, { type: MBR_TYPES.ntfs, firstLba: first, sectors }, MBR_RECORDS_OFFSET + i * 16)
        head.set([0x55, 0xaa], 510)
        await device.write(0, head)
        const extents = await collect(usedExtentsOf(device))
        expectSound(extents, device)
        // Nothing is known of any of them, so that all of the drive is taken.
        expect(extents.reduce((sum, e) => sum + e.length, 0)).toBe(device.size)
        expect(await storedDigest(await copyOf(device, extents))).toBe(await storedDigest(device))
      }),
      { numRuns: runsOf(15, 400) },
    )
  })

  it('is narrowed to what the drive can hold anything but zeros in', async () => {
    const extents = await collect(storedExtents(disk, usedExtentsOf(disk)))
    expectSound(extents, disk)
    const bytes = (of: readonly Extent[]) => of.reduce((sum, e) => sum + e.length, 0)
    expect(bytes(extents)).toBeLessThan(bytes(await collect(usedExtentsOf(disk))))
    const { size, logicalSectorSize, physicalSectorSize } = disk
    const plain = { size, logicalSectorSize, physicalSectorSize, read: disk.read.bind(disk) } as unknown as BlockDevice
    expect(bytes(await collect(storedExtents(plain, usedExtentsOf(plain))))).toBe(
      bytes(await collect(usedExtentsOf(disk))),
    )
  })
})
