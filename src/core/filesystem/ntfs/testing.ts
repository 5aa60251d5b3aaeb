import { expect } from 'vitest'
import { type BlockDevice, readBytes } from '../../block/device'
import { collect, sameBytes } from '../../testing'
import { openFileSystem } from '..'
import type { NewFile } from '../new-files'
import { BOOT_SECTOR, RECORDS } from './layout'
import { NtfsVolume } from './volume'

// What the tests of resizing share.

export type Written = Extract<NewFile, { content: Uint8Array }>

/** Content that tells each cluster of each file from any other. */
export function content(length: number, seed: number): Uint8Array {
  const bytes = new Uint8Array(length)
  const view = new DataView(bytes.buffer)
  for (let at = 0; at + 8 <= length; at += 512) {
    view.setUint32(at, seed)
    view.setUint32(at + 4, at)
  }
  return bytes
}

/** Every file is there and the same, on a volume that nothing was noticed on. */
export async function expectFiles(device: BlockDevice, files: readonly Written[]): Promise<void> {
  const volume = await openFileSystem(device)
  expect(volume?.state).toBe('clean')
  expect(volume?.findings).toEqual([])
  for (const file of files) expect(sameBytes(await volume!.readFile(file.path), file.content), file.path).toBe(true)
}

/** What a checker of the file system would look at. */
export async function expectConsistent(device: BlockDevice): Promise<void> {
  const volume = await NtfsVolume.open(device)
  const { totalClusters, clusterSize, mftMirrorLcn, mftLcn, recordSize } = volume.geometry
  const owner = new Uint8Array(totalClusters)
  for await (const record of volume.usedRecords()) {
    for (const { placed, name } of record.attributes) {
      if (name === '$Bad') continue
      for (const { lcn, length } of placed?.runs ?? []) {
        if (lcn === null) continue
        for (let c = lcn; c < lcn + length; c++) {
          expect(owner[c], `cluster ${c} of record ${record.number}`).toBe(0)
          owner[c] = 1
        }
      }
    }
  }
  const used = new Uint8Array(totalClusters)
  const opened = await openFileSystem(device)
  for (const { offset, length } of await collect(opened!.usedExtents())) {
    if (offset < totalClusters * clusterSize) used.fill(1, offset / clusterSize, (offset + length) / clusterSize)
  }
  expect(sameBytes(used, owner)).toBe(true)
  const records = await readBytes(device, mftLcn * clusterSize, 4 * recordSize)
  expect(sameBytes(await readBytes(device, mftMirrorLcn * clusterSize, 4 * recordSize), records)).toBe(true)
  const boot = await readBytes(device, 0, 512)
  expect(await readBytes(device, BOOT_SECTOR.read(boot).totalSectors * 512, 512)).toEqual(boot)
  const bad = (await volume.record(RECORDS.badClusters)).attributes.find((a) => a.name === '$Bad')
  expect(bad!.placed!.runs.reduce((sum, r) => sum + r.length, 0)).toBe(totalClusters)
}
