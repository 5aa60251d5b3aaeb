import { expect } from 'vitest'
import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { checkNtfs } from '../../../../tests/support/ntfs-checker'
import { sameBytes } from '../../testing'
import { openFileSystem } from '..'
import { setBits } from '../bitmap'
import type { NewFile } from '../new-files'
import { ATTRIBUTE_TYPES, RECORDS } from './layout'
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

/** The independent checker of the file system finds nothing to say. */
export async function expectConsistent(device: BlockDevice): Promise<void> {
  expect(await checkNtfs((offset, length) => readBytes(device, offset, length))).toEqual([])
}

/** Has the map of used blocks call free what a file uses, which a volume that calls itself clean may do. */
export async function callFree(device: BlockDevice, path: string): Promise<void> {
  const volume = await NtfsVolume.open(device)
  const { clusterSize } = volume.geometry
  const map = (await volume.stream(await volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data))!
  const bits = await map.read(0, map.size)
  for (const { offset, length } of await (await openFileSystem(device))!.fileExtents!(path)) {
    setBits(bits, offset / clusterSize, length / clusterSize, false)
  }
  await writeBytes(device, map.runs[0].lcn! * clusterSize, bits)
}
