import { type BlockDevice, readBytes } from '../block/device'
import type { TablePartition } from '../scheme/types'

/** Where code for a BIOS lies that is in no partition. */
export interface BootCode {
  /** The first 440 bytes of the drive. */
  readonly first: Uint8Array
  /** From the second sector on, up to the last byte that is not zero; empty where all are. */
  readonly gap: Uint8Array
}

export const START_CODE_BYTES = 440
/** Loaders of other systems lie in front of a first partition at 1 MiB. */
export const MAX_GAP_SECTORS = 2047

/** The code in front of the first partition of an MBR. Errors as the device's reading. */
export async function readBootCode(
  device: BlockDevice,
  partitions: readonly Pick<TablePartition, 'firstLba'>[],
): Promise<BootCode> {
  const sector = device.logicalSectorSize
  const first = (await readBytes(device, 0, sector)).slice(0, START_CODE_BYTES)
  const end = Math.min(...partitions.map((p) => p.firstLba), MAX_GAP_SECTORS + 1, Math.floor(device.size / sector))
  if (end <= 1) return { first, gap: new Uint8Array(0) }
  const gap = (await readBytes(device, sector, (end - 1) * sector)).slice()
  const used = gap.findLastIndex((byte) => byte !== 0) + 1
  return { first, gap: gap.subarray(0, used) }
}
