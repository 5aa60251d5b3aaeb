import { type BlockDevice, isZero, readBytes } from '../block/device'
import { MIB } from '../bytes/size'
import type { Finding } from '../findings'

/** How much of what a drive says it stores is looked at before it is called empty. */
const LOOK_BYTES = 64 * MIB

/**
 * What there is on a drive that carries neither a table nor a file system: undefined only when it is empty. A
 * drive must never be taken for empty because its content is not understood.
 */
export async function unknownContent(device: BlockDevice): Promise<Finding | undefined> {
  const at = await firstContent(device)
  if (at === undefined) return undefined
  return {
    severity: 'caution',
    code: 'drive.unknown-content',
    sentence: 'There is no partition table, but the drive is not empty. What is on it cannot be told.',
    evidence: `Something at byte ${at}`,
  }
}

/** The first megabyte that holds anything, of what the drive stores or, where it does not tell, of both its ends. */
async function firstContent(device: BlockDevice): Promise<number | undefined> {
  const end = { offset: Math.max(0, device.size - MIB), length: Math.min(MIB, device.size) }
  const places = device.mapped
    ? await device.mapped(0, device.size)
    : [{ offset: 0, length: Math.min(MIB, device.size) }, end]
  let looked = 0
  for (const { offset, length } of places) {
    for (let at = offset; at < offset + length; at += MIB) {
      // So much was stored that it cannot all be looked at: that is not what an empty drive is like.
      if (looked >= LOOK_BYTES) return at
      const bytes = await readBytes(device, at, Math.min(MIB, offset + length - at))
      if (!isZero(bytes)) return at
      looked += bytes.length
    }
  }
  return undefined
}
