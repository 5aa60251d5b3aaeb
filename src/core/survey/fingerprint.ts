import type { BlockDevice } from '../block/device'
import { readAround } from '../block/read-around'
import { crc32, crcText } from '../bytes/crc32'
import { usableRange } from '../scheme/gpt'

/** A short text that changes when anything in the sectors of either table copy does. */
export async function fingerprintOf(device: BlockDevice): Promise<string> {
  const { firstLba, lastLba } = usableRange(device.size, device.logicalSectorSize)
  const sector = device.logicalSectorSize
  // What does not read counts as zeros: a drive that fails can be surveyed and copied by its other table.
  const head = new Uint8Array(Math.min(device.size, firstLba * sector))
  await readAround(device, 0, head)
  const tailAt = Math.max(0, (lastLba + 1) * sector)
  const tail = new Uint8Array(device.size - tailAt)
  await readAround(device, tailAt, tail)
  return `${device.size}:${crcText(crc32(head))}:${crcText(crc32(tail))}`
}
