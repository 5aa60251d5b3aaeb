import type { BlockDevice } from '../block/device'
import { CoreError } from '../errors'
import type { Finding } from '../findings'
import { type GptReading, readGpt, usableRange } from './gpt'
import { MBR_TYPES } from './mbr-layout'
import { type MbrReading, readMbr, readMbrSector } from './mbr'
import type { TablePartition } from './types'

/** Whichever partition table there is. */
export type SchemeReading =
  | {
      readonly scheme: 'gpt'
      readonly gpt: GptReading
      readonly partitions: readonly TablePartition[]
      readonly findings: readonly Finding[]
    }
  | {
      readonly scheme: 'mbr'
      readonly mbr: MbrReading
      readonly partitions: readonly TablePartition[]
      readonly findings: readonly Finding[]
    }
  /** There was a GPT, and neither copy of it holds. */
  | {
      readonly scheme: 'damaged'
      readonly partitions: readonly TablePartition[]
      readonly findings: readonly Finding[]
    }

/**
 * Reads the partition table of a drive: a GPT where one is, else an MBR. Undefined where there is neither. An MBR
 * without the record that protects a GPT counts for more than a GPT left over beside it.
 */
export async function readScheme(device: BlockDevice): Promise<SchemeReading | undefined> {
  const sector = await readMbrSector(device)
  if (sector && !sector.protective) {
    const mbr = await readMbr(device, sector)
    const leftOver = await readGpt(device).catch(() => undefined)
    const findings = [...mbr.findings]
    if (leftOver) {
      findings.push({
        severity: 'caution',
        code: 'mbr.left-over-gpt',
        sentence:
          'Beside the MBR there is a GPT that the MBR does not announce. It is left over from before, and the MBR was used.',
        evidence: `GPT of disk ${leftOver.table.diskGuid}; no record of type EE in sector 0`,
      })
    }
    return { scheme: 'mbr', mbr, partitions: mbr.partitions, findings }
  }
  try {
    const gpt = await readGpt(device)
    if (gpt) return { scheme: 'gpt', gpt, partitions: gpt.table.partitions, findings: gpt.findings }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return {
      scheme: 'damaged',
      partitions: [],
      findings: [{ severity: 'damage', code: 'drive.table-damaged', sentence: error.message }],
    }
  }
  if (!sector) return undefined
  const types = sector.records
    .filter((r) => r.type !== 0)
    .map((r) => r.type.toString(16).toUpperCase().padStart(2, '0'))
  const lost: Finding = {
    severity: 'damage',
    code: 'drive.gpt-lost',
    sentence:
      'The protective MBR says that a GPT should be here, and neither copy of it is. What was on the drive may still be there.',
    evidence: `Sector 0: records of type ${types.join(', ')}`,
  }
  if (!sector.hybrid) return { scheme: 'damaged', partitions: [], findings: [lost] }
  // A hybrid MBR still names some of the partitions.
  const mbr = await readMbr(device, sector)
  return { scheme: 'damaged', partitions: mbr.partitions, findings: [lost, ...mbr.findings] }
}

/** Sectors that partitions of this table may use: both inclusive. */
export function partitionRange(
  reading: SchemeReading | undefined,
  device: BlockDevice,
): { firstLba: number; lastLba: number } {
  const lastLba = Math.floor(device.size / device.logicalSectorSize) - 1
  if (reading?.scheme === 'mbr') return { firstLba: 1, lastLba: Math.min(lastLba, 2 ** 32 - 1) }
  const { firstLba, lastLba: last } = usableRange(device.size, device.logicalSectorSize)
  if (reading?.scheme !== 'gpt') return { firstLba, lastLba: last }
  // A table with more entries than usual leaves less; one made for another size still has this drive's end.
  const entrySectors = Math.ceil(
    (reading.gpt.table.entryCount * reading.gpt.table.entrySize) / device.logicalSectorSize,
  )
  return { firstLba: Math.max(2 + entrySectors, 1), lastLba: lastLba - 1 - entrySectors }
}

/**
 * The sector size that the tables on the device speak of, where they tell: tables count in sectors, and an image
 * file does not say how long its drive's are. `open` gives the device with sectors of that size.
 */
export async function guessSectorSize(
  open: (sectorSize: 512 | 4096) => BlockDevice,
  recognised: (device: BlockDevice, offset: number) => Promise<boolean>,
): Promise<512 | 4096> {
  const small = open(512)
  if (small.size % 4096 !== 0 || small.size < 64 * 1024) return 512
  const sector = await readMbrSector(small)
  const scores = { 512: 0, 4096: 0 }
  for (const size of [512, 4096] as const) {
    const device = open(size)
    const gpt = await readGpt(device).catch(() => undefined)
    if (gpt) scores[size] += gpt.primary.table ? 4 : 2
    if (!sector || sector.protective) continue
    for (const partition of (await readMbr(device, sector)).partitions) {
      if (partition.mbr!.kind === 'extended' || partition.mbr!.type === MBR_TYPES.protective) continue
      if (partition.lastLba * size >= device.size) continue
      if (await recognised(device, partition.firstLba * size)) scores[size]++
    }
  }
  return scores[4096] > scores[512] ? 4096 : 512
}
