import { type BlockDevice, isZero, readBytes } from '../block/device'
import { MIB } from '../bytes/size'
import type { Finding } from '../findings'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SIGNATURE_OFFSET, PROTECTIVE_TYPE } from '../scheme/gpt-layout'

/** How much of what a drive says it stores is looked at before it is called empty. */
const LOOK_BYTES = 64 * MIB

/**
 * What there is on a drive without a GPT: undefined only when it is empty. A drive must never be taken for
 * empty because its content is not understood.
 */
export async function unknownContent(
  device: BlockDevice,
): Promise<{ scheme: 'damaged' | 'unknown'; finding: Finding } | undefined> {
  const first = await readBytes(device, 0, 512)
  const signed = first[MBR_SIGNATURE_OFFSET] === 0x55 && first[MBR_SIGNATURE_OFFSET + 1] === 0xaa
  const types = [0, 1, 2, 3]
    .map((i) => MBR_RECORD.read(first, MBR_RECORDS_OFFSET + i * MBR_RECORD.size).type)
    .filter((type) => type !== 0)
  const evidence = `Sector 0: records of type ${types.map((type) => type.toString(16).toUpperCase().padStart(2, '0')).join(', ')}`
  if (signed && types.includes(PROTECTIVE_TYPE)) {
    const sentence =
      'The protective MBR says that a GPT should be here, and neither copy of it is. What was on the drive may still be there.'
    return { scheme: 'damaged', finding: { severity: 'damage', code: 'drive.gpt-lost', sentence, evidence } }
  }
  if (signed && types.length > 0) {
    const sentence = `The drive has an MBR with ${types.length} ${types.length === 1 ? 'record' : 'records'}, which cannot be read yet. It is not empty.`
    return { scheme: 'unknown', finding: { severity: 'caution', code: 'drive.mbr', sentence, evidence } }
  }
  const at = await firstContent(device)
  if (at === undefined) return undefined
  const sentence = 'There is no partition table, but the drive is not empty. What is on it cannot be told.'
  return {
    scheme: 'unknown',
    finding: { severity: 'caution', code: 'drive.unknown-content', sentence, evidence: `Something at byte ${at}` },
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
