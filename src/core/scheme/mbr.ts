import { type BlockDevice, isZero, readBytes } from '../block/device'
import { CoreError } from '../errors'
import type { Finding } from '../findings'
import {
  EXTENDED_TYPES,
  MBR_RECORD,
  MBR_RECORDS_OFFSET,
  MBR_SECTOR,
  MBR_SIGNATURE,
  MBR_TYPES,
  STATUS_ACTIVE,
} from './mbr-layout'
import type { MbrRecord, TablePartition } from './types'

/** One of the four records, as it stands. */
export type RawRecord = ReturnType<typeof MBR_RECORD.read>

/** Sector 0, read as an MBR. */
export interface MbrSector {
  /** Eight hexadecimal digits. */
  readonly diskSignature: string
  readonly hasBootCode: boolean
  /** All four records, empty ones included. */
  readonly records: readonly RawRecord[]
  /** A record of type EE stands in it, which says that there is a GPT. */
  readonly protective: boolean
  /** Records that name partitions besides the one of type EE. */
  readonly hybrid: boolean
}

export interface MbrReading extends MbrSector {
  /** In order of number: primary and extended ones by their place, logical ones from 5 on. */
  readonly partitions: readonly TablePartition[]
  readonly findings: readonly Finding[]
}

const MAX_LOGICAL = 256

/** The first sector as an MBR, or undefined where it does not carry the signature or its records make no sense. */
export async function readMbrSector(device: BlockDevice): Promise<MbrSector | undefined> {
  const bytes = await readBytes(device, 0, 512).catch(() => undefined)
  if (!bytes) return undefined
  const { signature, diskSignature, bootCode } = MBR_SECTOR.read(bytes)
  if (signature !== MBR_SIGNATURE) return undefined
  const records = readRecords(bytes)
  // The boot sector of a file system ends in the same signature, with code or text where records would be.
  if (records.some((r) => r.status !== 0 && r.status !== STATUS_ACTIVE)) return undefined
  const named = records.filter((r) => r.type !== 0 && r.sectors > 0)
  if (named.length === 0 || named.some((r) => r.firstLba === 0)) return undefined
  const protective = named.some((r) => r.type === MBR_TYPES.protective)
  return {
    diskSignature: diskSignature.toString(16).padStart(8, '0'),
    hasBootCode: !isZero(bootCode),
    records,
    protective,
    hybrid: protective && named.some((r) => r.type !== MBR_TYPES.protective),
  }
}

/**
 * All partitions of an MBR (UEFI 2.10, section 5.2.1), the logical ones by following the chain of extended
 * boot records. What is wrong with a record or the chain is a finding; what came before it is kept.
 */
export async function readMbr(device: BlockDevice, sector: MbrSector): Promise<MbrReading> {
  const findings: Finding[] = []
  const sectors = device.size / device.logicalSectorSize
  const partitions: TablePartition[] = []
  const add = (number: number, raw: RawRecord, firstLba: number, kind: MbrRecord['kind'], recordLba: number) => {
    const partition: TablePartition = {
      number,
      typeGuid: '',
      guid: `${sector.diskSignature}-${String(number).padStart(2, '0')}`,
      firstLba,
      lastLba: firstLba + raw.sectors - 1,
      attributes: '0'.repeat(16),
      name: '',
      mbr: { type: raw.type, active: raw.status === STATUS_ACTIVE, kind, recordLba },
    }
    partitions.push(partition)
    return partition
  }
  for (const [i, raw] of sector.records.entries()) {
    if (raw.type === 0 || raw.sectors === 0 || raw.type === MBR_TYPES.protective) continue
    add(i + 1, raw, raw.firstLba, EXTENDED_TYPES.includes(raw.type) ? 'extended' : 'primary', 0)
  }
  for (const container of partitions.filter((p) => p.mbr!.kind === 'extended')) await followChain(container)
  const active = partitions.filter((p) => p.mbr!.active && p.mbr!.kind === 'primary')
  if (active.length > 1) {
    findings.push({
      severity: 'caution',
      code: 'mbr.several-active',
      sentence: `${active.length} partitions are marked active; a BIOS starts from one only.`,
      evidence: `Partitions ${active.map((p) => p.number).join(', ')}`,
    })
  }
  findings.push(...placeFindings(partitions, sectors))
  return { ...sector, partitions, findings }

  async function followChain(container: TablePartition): Promise<void> {
    const seen = new Set<number>()
    let number = Math.max(4, ...partitions.map((p) => p.number)) + 1
    let at = container.firstLba
    const broken = (why: string, lba: number) =>
      findings.push({
        severity: 'damage',
        code: 'mbr.chain-broken',
        sentence: `The chain of logical partitions ${why}. Partitions behind that place cannot be found through it.`,
        evidence: `Extended boot record at sector ${lba}`,
      })
    for (;;) {
      if (seen.has(at)) return void broken('leads back to itself', at)
      if (seen.size >= MAX_LOGICAL) return void broken(`is longer than ${MAX_LOGICAL} partitions`, at)
      seen.add(at)
      if (at >= sectors) return void broken('leads past the end of the drive', at)
      let bytes: Uint8Array
      try {
        bytes = await readBytes(device, at * device.logicalSectorSize, 512)
      } catch (error) {
        if (!(error instanceof CoreError)) throw error
        return void broken('cannot be read there', at)
      }
      if (MBR_SECTOR.read(bytes).signature !== MBR_SIGNATURE) return void broken('breaks off without its signature', at)
      const records = readRecords(bytes)
      const logical = records.find((r) => r.type !== 0 && r.sectors > 0 && !EXTENDED_TYPES.includes(r.type))
      if (logical) add(number++, logical, at + logical.firstLba, 'logical', at)
      const next = records.find((r) => EXTENDED_TYPES.includes(r.type) && r.sectors > 0)
      if (!next) return
      at = container.firstLba + next.firstLba
      if (at <= container.firstLba && next.firstLba !== 0) return void broken('leaves its container', at)
      if (at > container.lastLba) return void broken('leaves its container', at)
    }
  }
}

/** Partitions outside the drive or their container, and those that overlap. */
function placeFindings(partitions: readonly TablePartition[], sectors: number): Finding[] {
  const findings: Finding[] = []
  const place = (p: TablePartition) => `Sectors ${p.firstLba} to ${p.lastLba}`
  for (const p of partitions) {
    if (p.lastLba >= sectors) {
      findings.push({
        severity: 'damage',
        code: 'mbr.out-of-range',
        sentence: `Partition ${p.number} ends behind the end of the drive; the table was made for a larger one, or it was cut short.`,
        evidence: `${place(p)}; the drive has ${sectors}`,
      })
    }
    const container = partitions.find(
      (c) => c.mbr!.kind === 'extended' && p.mbr!.kind === 'logical' && p.mbr!.recordLba >= c.firstLba,
    )
    if (container && p.lastLba > container.lastLba) {
      findings.push({
        severity: 'damage',
        code: 'mbr.outside-container',
        sentence: `Partition ${p.number} reaches out of the extended partition that should hold it.`,
        evidence: `${place(p)}; the container ends at ${container.lastLba}`,
      })
    }
  }
  const layers = [
    partitions.filter((p) => p.mbr!.kind !== 'logical'),
    partitions.filter((p) => p.mbr!.kind === 'logical'),
  ]
  for (const layer of layers) findings.push(...overlapFindings(layer, 'mbr.overlap'))
  return findings
}

/** A finding for each partition that begins inside an earlier one. */
export function overlapFindings(partitions: readonly TablePartition[], code: string): Finding[] {
  const ordered = [...partitions].sort((a, b) => a.firstLba - b.firstLba)
  let widest = ordered[0]
  const findings: Finding[] = []
  for (const next of ordered.slice(1)) {
    if (next.firstLba <= widest.lastLba) {
      findings.push({
        severity: 'damage',
        code,
        sentence: `Partitions ${widest.number} and ${next.number} overlap.`,
        evidence: `Sectors ${widest.firstLba} to ${widest.lastLba}, and from sector ${next.firstLba}`,
      })
    }
    if (next.lastLba > widest.lastLba) widest = next
  }
  return findings
}

function readRecords(bytes: Uint8Array): RawRecord[] {
  return [0, 1, 2, 3].map((i) => MBR_RECORD.read(bytes, MBR_RECORDS_OFFSET + i * MBR_RECORD.size))
}
