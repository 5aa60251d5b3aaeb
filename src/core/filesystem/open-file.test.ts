import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { surveyDrive } from '../survey/survey'
import { pattern, sameBytes } from '../testing'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { NoSuchFile } from './errors'
import { type FileSystem, openFileSystem } from './index'

const CONTENT = pattern(300_000, 6)
const volumes: Record<string, { volume: FileSystem; path: string; reads: () => number }> = {}

beforeAll(async () => {
  const disk = await makeSystemDisk({ systemFiles: [{ path: '/Windows/Logs/deep/long.log', content: CONTENT }] })
  const { partitions } = await surveyDrive(disk, sha256)
  const on = async (index: number, path: string) => {
    const { startBytes, sizeBytes } = partitions[index]
    const slice = new SliceDevice(disk, startBytes, sizeBytes)
    let reads = 0
    const counted: BlockDevice = {
      ...{ size: slice.size, logicalSectorSize: 512, physicalSectorSize: 512 },
      read: (at, into) => (reads++, slice.read(at, into)),
      write: (at, from) => slice.write(at, from),
      flush: () => slice.flush(),
    }
    return { volume: (await openFileSystem(counted))!, path, reads: () => reads }
  }
  volumes.fat32 = await on(0, '/EFI/Boot/bootx64.efi')
  volumes.ntfs = await on(2, '/Windows/Logs/deep/long.log')
})

describe.each(['fat32', 'ntfs'])('a file of %s that is opened', (kind) => {
  it('gives what its path gives, wherever it is read', async () => {
    const { volume, path } = volumes[kind]
    const whole = await volume.readFile(path)
    expect(whole.length).toBeGreaterThan(1000)
    const file = await volume.openFile(path)
    await fc.assert(
      fc.asyncProperty(fc.nat(whole.length + 5000), fc.nat(40_000), async (offset, length) => {
        const part = await file.read(offset, length)
        expect(sameBytes(part, whole.subarray(offset, offset + length))).toBe(true)
        expect(sameBytes(part, await volume.readFile(path, offset, length))).toBe(true)
      }),
      { numRuns: 40 },
    )
  })

  it('is looked for once', async () => {
    const { volume, path, reads } = volumes[kind]
    const costs = async (work: () => Promise<unknown>) => {
      const before = reads()
      await work()
      return reads() - before
    }
    const file = await volume.openFile(path)
    const opened = await costs(() => file.read(512, 4))
    const byPath = await costs(() => volume.readFile(path, 512, 4))
    expect(opened).toBeGreaterThan(0)
    expect(opened).toBeLessThanOrEqual(byPath)
    // Each folder on the way is a record and its index.
    if (kind === 'ntfs') expect(byPath - opened).toBeGreaterThanOrEqual(4)
    await expect(volume.openFile(`${path}.old`)).rejects.toBeInstanceOf(NoSuchFile)
  })
})
