import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SparseFileDevice } from '@/bench/sparse-file'
import type { BlockDevice } from '@/core/block/device'
import { openFileSystem } from '@/core/filesystem'
import { ntfs } from '@/core/filesystem/ntfs'
import { checkNtfsFile } from './support/ntfs-checker'
import { makeNtfs, type Shape, useNtfs, wearNtfs } from './support/worn-ntfs'
import { deep } from '@/core/testing'

// Volumes worn by another driver, given other sizes by Imbarco, then checked, mounted and used by that driver again.

const KIB = 1024
const MIB = 1024 * KIB
let folder: string
beforeAll(() => (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-ntfs-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const QUICK: readonly Shape[] = [
  { clusterBytes: 512, sizeBytes: 24 * MIB, crumbs: 1500, lateBytes: MIB },
  { clusterBytes: 4 * KIB, sizeBytes: 64 * MIB, crumbs: 1200, lateBytes: 5 * MIB, names: 600 },
  { clusterBytes: 64 * KIB, sizeBytes: 220 * MIB, crumbs: 300, lateBytes: 8 * MIB },
]
const DEEP: readonly Shape[] = [
  ...[KIB, 2 * KIB, 8 * KIB, 16 * KIB, 32 * KIB, 128 * KIB, 256 * KIB, 512 * KIB].map((clusterBytes): Shape => ({
    clusterBytes,
    sizeBytes: Math.max(32 * MIB, clusterBytes * 2400),
    crumbs: 700,
    lateBytes: clusterBytes * 200,
  })),
  { clusterBytes: MIB, sizeBytes: 1200 * MIB, crumbs: 60, lateBytes: 20 * MIB },
  { clusterBytes: 2 * MIB, sizeBytes: 2400 * MIB, crumbs: 60, lateBytes: 40 * MIB },
  // Thousands of pieces in one file, and a file table in very many.
  { clusterBytes: 512, sizeBytes: 60 * MIB, crumbs: 12_000, lateBytes: 4 * MIB, names: 6000 },
  { clusterBytes: 4 * KIB, sizeBytes: 144 * MIB, crumbs: 16_000, lateBytes: 24 * MIB, names: 9000 },
]

async function store(volume: BlockDevice, file: string): Promise<void> {
  rmSync(file, { force: true })
  const target = await SparseFileDevice.create(file, volume.size)
  const fileSystem = (await openFileSystem(volume))!
  for await (const { offset, length } of fileSystem.usedExtents()) {
    for (let at = offset; at < offset + length; at += MIB) {
      const bytes = new Uint8Array(Math.min(MIB, offset + length - at))
      await volume.read(at, bytes)
      await target.write(at, bytes)
    }
  }
  await target.close()
}

describe.each(deep ? [...QUICK, ...DEEP] : QUICK)('NTFS with clusters of $clusterBytes bytes', (shape) => {
  let file: string
  let source: SparseFileDevice
  let digests: Map<string, string>
  let least: number

  beforeAll(async () => {
    file = path.join(folder, `${shape.clusterBytes}-${shape.crumbs}.img`)
    makeNtfs(file, shape)
    digests = await wearNtfs(file, shape)
    source = await SparseFileDevice.open(file, { writable: false })
    const volume = (await openFileSystem(source))!
    let used = 0
    for await (const { length } of volume.usedExtents()) used += length
    least = Math.ceil(volume.shrunk!(used).bytes / 512) * 512
    // Files of large clusters take the driver minutes.
  }, 300_000)
  afterAll(() => source?.close())

  it('is sound before anything is done to it', async () => expect(await checkNtfsFile(file)).toEqual([]))

  it.each([
    ['its least size', () => least],
    ['a size in between', () => Math.ceil((least + shape.sizeBytes) / 1024) * 512],
    ['a little less', () => shape.sizeBytes - 512 * KIB],
    ['a little more', () => shape.sizeBytes + 3 * shape.clusterBytes],
    ['much more', () => shape.sizeBytes * 40],
  ])('brought to %s is sound, mounts with every file, and stays sound in use', async (_what, bytes) => {
    const made = path.join(folder, 'made.img')
    await store(await ntfs.resize!(source, bytes()), made)
    expect(await checkNtfsFile(made)).toEqual([])
    expect(await useNtfs(made, digests)).toEqual([])
    expect(await checkNtfsFile(made)).toEqual([])
  })
})
