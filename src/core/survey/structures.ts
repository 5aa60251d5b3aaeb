import { type BlockDevice, readBytes } from '../block/device'
import { type Field, type FieldView, hasText, type Struct, viewFields } from '../bytes/struct'
import { CONTAINER } from '../filesystem/apfs/layout'
import { EXFAT_BOOT } from '../filesystem/exfat/layout'
import { SUPERBLOCK } from '../filesystem/ext/layout'
import { BOOT_SECTOR as FAT_BOOT, BOOT_SECTOR_16 as FAT16_BOOT } from '../filesystem/fat/layout'
import { VOLUME_HEADER as HFS_HEADER } from '../filesystem/hfsplus/layout'
import { BOOT_SECTOR as NTFS_BOOT } from '../filesystem/ntfs/layout'
import { BITLOCKER_BOOT } from '../filesystem/sealed/bitlocker'
import { LUKS_HEADER } from '../filesystem/sealed/luks'
import { GPT_ENTRY, GPT_HEADER } from '../scheme/gpt-layout'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SECTOR } from '../scheme/mbr-layout'
import type { DriveSurvey } from './types'

type AnyStruct = Struct<Record<string, Field>>

/** A structure found in a sector: where it begins and what its fields say. */
export interface StructureView {
  readonly name: string
  /** Bytes from the start of what was read. */
  readonly at: number
  readonly fields: readonly FieldView[]
}

/** A sector with the structures that were found in it. */
export interface SectorView {
  readonly lba: number
  readonly offsetBytes: number
  readonly bytes: Uint8Array
  readonly structures: readonly StructureView[]
}

/** A sector that is worth a look, by what it should hold. */
export interface NamedSector {
  readonly name: string
  readonly lba: number
}

/** How a structure is known at the start of a sector, or a little behind it. */
const KNOWN: readonly { struct: AnyStruct; at: number; holds: (bytes: Uint8Array) => boolean }[] = [
  { struct: GPT_HEADER, at: 0, holds: (b) => hasText(b, 0, 'EFI PART') },
  { struct: NTFS_BOOT, at: 0, holds: (b) => hasText(b, 3, 'NTFS    ') },
  { struct: EXFAT_BOOT, at: 0, holds: (b) => hasText(b, 3, 'EXFAT   ') },
  { struct: BITLOCKER_BOOT, at: 0, holds: (b) => hasText(b, 3, '-FVE-FS-') },
  { struct: FAT_BOOT, at: 0, holds: (b) => hasText(b, 82, 'FAT32') },
  { struct: FAT16_BOOT, at: 0, holds: (b) => hasText(b, 54, 'FAT1') },
  { struct: LUKS_HEADER, at: 0, holds: (b) => hasText(b, 0, 'LUKS') },
  { struct: CONTAINER, at: 0, holds: (b) => b.length >= CONTAINER.size && hasText(b, 32, 'NXSB') },
  { struct: SUPERBLOCK, at: 0, holds: (b) => b.length >= 1024 && b[56] === 0x53 && b[57] === 0xef },
  { struct: SUPERBLOCK, at: 1024, holds: (b) => b.length >= 2048 && b[1080] === 0x53 && b[1081] === 0xef },
  { struct: HFS_HEADER, at: 0, holds: (b) => hasText(b, 0, 'H+') || hasText(b, 0, 'HX') },
  { struct: HFS_HEADER, at: 1024, holds: (b) => b.length >= 1536 && hasText(b, 1024, 'H+') },
]

/**
 * The bytes of a sector, and of what follows it where a structure is longer, with the fields of every structure
 * that is known there. `survey` tells where table entries lie. Rejects with OutOfRange, UnreadableSectors.
 */
export async function viewSector(device: BlockDevice, lba: number, survey: DriveSurvey): Promise<SectorView> {
  const sector = device.logicalSectorSize
  const offsetBytes = lba * sector
  const whole = await readBytes(device, offsetBytes, Math.max(sector, Math.min(4096, device.size - offsetBytes)))
  const structures: StructureView[] = []
  const add = (struct: AnyStruct, at: number, name = struct.name) =>
    structures.push({ name, at, fields: viewFields(struct, whole, at) })
  const isBoot = whole[510] === 0x55 && whole[511] === 0xaa
  const records = survey.partitions.flatMap((p) => (p.mbr ? [p.mbr.recordLba] : []))
  if (isBoot && (lba === 0 || records.includes(lba)) && survey.scheme !== 'volume') {
    add(MBR_SECTOR, 0, lba === 0 ? 'MBR' : 'Extended boot record')
    for (let i = 0; i < 4; i++) add(MBR_RECORD, MBR_RECORDS_OFFSET + i * 16, `Record ${i + 1}`)
  }
  for (const { struct, at, holds } of KNOWN) if (holds(whole)) add(struct, at)
  const entry = entriesIn(survey, lba, sector)
  if (entry) {
    for (let at = 0; at + entry.size <= sector; at += entry.size) {
      const number = entry.first + at / entry.size
      if (survey.partitions.some((p) => p.number === number)) add(GPT_ENTRY, at, `Entry ${number}`)
    }
  }
  const longest = Math.max(
    sector,
    ...structures.map((s) => s.at + Math.max(...s.fields.map((f) => f.offset + f.length))),
  )
  const shown = Math.min(whole.length, Math.ceil(longest / sector) * sector)
  return { lba, offsetBytes, bytes: whole.subarray(0, shown), structures }
}

/** Which entries of a GPT begin in a sector, by the places of both copies. */
function entriesIn(survey: DriveSurvey, lba: number, sector: number): { first: number; size: number } | undefined {
  const { table } = survey
  if (!table || table.entrySize > sector) return undefined
  const sectors = Math.ceil((table.entryCount * table.entrySize) / sector)
  for (const start of [2, table.backupLba - sectors]) {
    if (lba >= start && lba < start + sectors) {
      return { first: ((lba - start) * sector) / table.entrySize + 1, size: table.entrySize }
    }
  }
  return undefined
}

/** Sectors of a surveyed drive that hold a table or begin a volume, in order. */
export function sectorsWorthALook(survey: DriveSurvey): NamedSector[] {
  const last = survey.sizeBytes / survey.logicalSectorSize - 1
  const named: NamedSector[] = []
  if (survey.scheme !== 'volume') named.push({ name: survey.table ? 'Protective MBR' : 'First sector', lba: 0 })
  if (survey.table || survey.scheme === 'damaged')
    named.push({ name: 'GPT header', lba: 1 }, { name: 'GPT entries', lba: 2 })
  for (const p of survey.partitions) {
    if (p.mbr && p.mbr.recordLba > 0) named.push({ name: `Record of partition ${p.number}`, lba: p.mbr.recordLba })
    if (p.mbr?.kind !== 'extended') named.push({ name: `Start of ${p.title}`, lba: p.firstLba })
  }
  if (survey.table) {
    const sectors = Math.ceil((survey.table.entryCount * survey.table.entrySize) / survey.logicalSectorSize)
    named.push(
      { name: 'Backup entries', lba: survey.table.backupLba - sectors },
      { name: 'Backup header', lba: survey.table.backupLba },
    )
  }
  named.push({ name: 'Last sector', lba: last })
  const seen = new Set<number>()
  return named
    .filter(({ lba }) => lba >= 0 && lba <= last && !seen.has(lba) && seen.add(lba))
    .sort((a, b) => a.lba - b.lba)
}
