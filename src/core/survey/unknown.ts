import { type BlockDevice, type Extent, isZero, readBytes } from '../block/device'
import { MIB } from '../bytes/size'
import type { Finding } from '../findings'

/** So many samples of so many bytes of a drive that does not tell what it stores. */
const SAMPLES = 256
const SAMPLE_BYTES = 64 * 1024

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

/** The first megabyte that holds anything, of what the drive stores or, where it does not tell, of samples of it. */
async function firstContent(device: BlockDevice): Promise<number | undefined> {
  const places = device.mapped ? await device.mapped(0, device.size) : samplesOf(device.size)
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

/** Both ends, and places between them that stand evenly apart; all of a short one. */
function samplesOf(size: number): Extent[] {
  if (size <= LOOK_BYTES) return [{ offset: 0, length: size }]
  const step = Math.floor(size / SAMPLES / SAMPLE_BYTES) * SAMPLE_BYTES
  const between = Array.from({ length: SAMPLES - 1 }, (_, i) => ({ offset: (i + 1) * step, length: SAMPLE_BYTES }))
  return [{ offset: 0, length: MIB }, ...between, { offset: size - MIB, length: MIB }]
}
