import { crc32, crcText } from '../bytes/crc32'
import { NIL_GUID } from '../bytes/guid'
import { asciiToString } from '../bytes/struct'
import { type BlockDevice, readBytes } from '../block/device'
import { BadStructure, CoreError } from '../errors'
import type { Finding } from '../findings'
import { ENTRY_COUNT, ENTRY_SIZE, GPT_ENTRY, GPT_HEADER, GPT_REVISION, GPT_SIGNATURE } from './gpt-layout'
import { overlapFindings, readMbrSector } from './mbr'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SIGNATURE_OFFSET, MBR_TYPES, STATUS_ACTIVE } from './mbr-layout'
import type { GptPartition, GptTable, HybridRecord } from './types'

/** One of the two copies as it was found. `table` is present when its checksums and values hold. */
export interface GptCopy {
  readonly lba: number
  readonly table?: GptTable
  readonly headerCrc?: number
  readonly entriesCrc?: number
  readonly alternateLba?: number
  readonly firstUsableLba?: number
  readonly lastUsableLba?: number
  /** The table of a copy whose header fails its checksum, where its entries pass theirs. */
  readonly salvaged?: GptTable
  /** Why the copy is not good, as the end of a sentence. */
  readonly fault?: string
  /** No GPT signature at all, rather than a damaged copy. */
  readonly absent?: boolean
}

/** What reading both copies came to. */
export interface GptReading {
  readonly table: GptTable
  /** Which copy the table was taken from. */
  readonly from: 'primary' | 'backup'
  readonly primary: GptCopy
  readonly backup: GptCopy
  readonly protectiveMbr: boolean
  /** The MBR names partitions besides the protective record, for systems that do not read a GPT. */
  readonly hybridMbr: boolean
  /** The partitions that it names, where they are those of the GPT. */
  readonly hybrid: readonly HybridRecord[]
  readonly findings: readonly Finding[]
}

/** A table of more bytes is taken for damage: it would hold tens of thousands of partitions. */
const MAX_TABLE_BYTES = 4 * 1024 * 1024

/** A stretch of bytes to be written at an offset of the drive. */
export interface TableWrite {
  readonly offset: number
  readonly bytes: Uint8Array
}

/** Sectors usable for partitions on a drive of this size under a table of 128 entries: both inclusive. */
export function usableRange(sizeBytes: number, sectorSize: number): { firstLba: number; lastLba: number } {
  const entrySectors = Math.ceil((ENTRY_COUNT * ENTRY_SIZE) / sectorSize)
  return { firstLba: 2 + entrySectors, lastLba: Math.floor(sizeBytes / sectorSize) - 2 - entrySectors }
}

/**
 * Reads the GPT of a drive: both copies with both checksums, and the protective MBR (UEFI 2.10, section 5.3).
 * Returns undefined when neither copy carries the signature; throws BadStructure when both are damaged.
 */
export async function readGpt(device: BlockDevice): Promise<GptReading | undefined> {
  const lastLba = device.size / device.logicalSectorSize - 1
  if (lastLba < 4) return undefined
  let primary = await readCopy(device, 1)
  let backup = await readCopy(device, lastLba)
  const findings: Finding[] = []
  if (!backup.table && primary.alternateLba !== undefined && primary.alternateLba !== lastLba) {
    // A smaller drive's table put on a larger one has its backup where the old end was. A header that is damaged may
    // still say where: what is found there has to pass its own checksums.
    const elsewhere = primary.alternateLba > 1 && primary.alternateLba < lastLba
    const misplaced = elsewhere ? await readCopy(device, primary.alternateLba) : undefined
    if (misplaced?.table) backup = misplaced
    findings.push({
      severity: 'caution',
      code: 'gpt.backup-misplaced',
      sentence:
        'The backup of the partition table is not at the end of the drive; the table was made for another size.',
      evidence: `Backup named at sector ${primary.alternateLba}, the last sector is ${lastLba}`,
    })
  }
  // A table for a larger drive is the best there is only while no other fits this one.
  if (primary.table && backup.table && primary.lastUsableLba! > lastLba && backup.lastUsableLba! <= lastLba) {
    const fault = `gives a usable range of ${primary.firstUsableLba} to ${primary.lastUsableLba}`
    primary = { ...primary, table: undefined, fault }
  }
  if (primary.absent && backup.absent) return undefined
  if (!primary.table && !backup.table) {
    if (primary.salvaged) primary = { ...primary, table: primary.salvaged }
    else if (backup.salvaged) backup = { ...backup, table: backup.salvaged }
    if (primary.table || backup.table) {
      findings.push({
        severity: 'damage',
        code: 'gpt.header-damaged',
        sentence:
          'Neither header of the partition table passes its checksum. The partitions were read from entries that pass theirs.',
        evidence: `The primary copy ${primary.fault}; the backup ${backup.fault}`,
      })
    }
  }
  const good = primary.table ? primary : backup
  if (!good.table) {
    throw new BadStructure('partition table', 512, `the primary copy ${primary.fault}, and the backup ${backup.fault}`)
  }
  for (const [name, copy] of [
    ['primary', primary],
    ['backup', backup],
  ] as const) {
    // Where neither header holds that is said by itself.
    if (copy.table || findings.some((f) => f.code === 'gpt.header-damaged')) continue
    findings.push({
      severity: 'damage',
      code: `gpt.${name}-bad`,
      sentence: `The ${name === 'primary' ? 'first copy' : 'backup'} of the partition table is damaged: it ${copy.fault}. The other copy is good and was used.`,
      evidence: `Sector ${copy.lba}`,
    })
  }
  if (primary.table && backup.table && primary.entriesCrc !== backup.entriesCrc) {
    findings.push({
      severity: 'damage',
      code: 'gpt.copies-differ',
      sentence: 'The two copies of the partition table name different partitions. The first was used.',
      evidence: `Entries CRC ${crcText(primary.entriesCrc!)} and ${crcText(backup.entriesCrc!)}`,
    })
  }
  if (primary.table && backup.table && primary.table.diskGuid !== backup.table.diskGuid) {
    findings.push({
      severity: 'damage',
      code: 'gpt.identities-differ',
      sentence: 'The two copies of the partition table carry different disk identities. The first was used.',
      evidence: `${primary.table.diskGuid} and ${backup.table.diskGuid}`,
    })
  }
  const mbr = await readMbrSector(device)
  const protectiveMbr = Boolean(mbr?.protective)
  const hybridMbr = Boolean(mbr?.hybrid)
  if (!protectiveMbr) {
    findings.push({
      severity: 'caution',
      code: 'gpt.no-protective-mbr',
      sentence: 'The protective MBR is missing, so older programs may take this drive for an empty one.',
      evidence: 'Sector 0 holds no record of type EE',
    })
  }
  if (hybridMbr) {
    const others = mbr!.records.filter((r) => r.type !== 0 && r.type !== MBR_TYPES.protective)
    findings.push({
      severity: 'caution',
      code: 'gpt.hybrid-mbr',
      sentence: `The MBR is a hybrid: it names ${others.length} of the partitions a second time, for a system that does not read a GPT. Both must say the same after a move.`,
      evidence: others.map((r) => `Type ${hex(r.type)} from sector ${r.firstLba}, ${r.sectors} sectors`).join('; '),
    })
  }
  const covered = mbr?.records.find((r) => r.type === MBR_TYPES.protective)?.sectors
  const misplaced = findings.some((f) => f.code === 'gpt.backup-misplaced')
  if (covered !== undefined && !hybridMbr && !misplaced && covered !== 0xffffffff && covered < lastLba) {
    findings.push({
      severity: 'note',
      code: 'gpt.protective-size',
      sentence: 'The protective MBR covers less than the drive; the table was made for another size.',
      evidence: `${covered} sectors covered of ${lastLba}`,
    })
  }
  if (good.lastUsableLba! > lastLba) {
    const lost = good.table.partitions.filter((p) => p.lastLba > lastLba).map((p) => p.number)
    findings.push({
      severity: 'damage',
      code: 'gpt.drive-smaller',
      sentence: `The table was made for a larger drive, or this one was cut short: ${lost.length === 0 ? 'no partition reaches behind its end' : `of partition ${lost.join(', ')} the end is missing`}.`,
      evidence: `Usable up to sector ${good.lastUsableLba}; the last sector is ${lastLba}`,
    })
  }
  findings.push(...partitionFindings(good.table, good.firstUsableLba!, good.lastUsableLba!))
  const from = good === primary ? 'primary' : 'backup'
  const hybrid = (hybridMbr ? mbr!.records : []).flatMap((r) => {
    const named = good.table!.partitions.find((p) => r.type !== MBR_TYPES.protective && p.firstLba === r.firstLba)
    return named && r.sectors > 0 ? [{ number: named.number, type: r.type, active: r.status === STATUS_ACTIVE }] : []
  })
  return { table: good.table, from, primary, backup, protectiveMbr, hybridMbr, hybrid, findings }
}

/**
 * All writes that put a table of 128 entries on a drive: backup entries and header first, then the primary
 * ones, the protective MBR last, so that a cut in the middle leaves no half-valid first copy.
 * Throws CoreError when a partition overlaps another, leaves the usable range or has no place in the array.
 */
export function gptWrites(sizeBytes: number, sectorSize: 512 | 4096, table: GptTable): TableWrite[] {
  const usable = usableRange(sizeBytes, sectorSize)
  checkPartitions(table, usable)
  const lastLba = sizeBytes / sectorSize - 1
  const entrySectors = Math.ceil((ENTRY_COUNT * ENTRY_SIZE) / sectorSize)
  const entries = new Uint8Array(entrySectors * sectorSize)
  for (const partition of table.partitions) {
    GPT_ENTRY.write(
      entries,
      { ...partition, attributes: BigInt(`0x${partition.attributes}`) },
      (partition.number - 1) * ENTRY_SIZE,
    )
  }
  const entriesCrc = crc32(entries.subarray(0, ENTRY_COUNT * ENTRY_SIZE))
  const header = (myLba: number, alternateLba: number, entriesLba: number) => {
    const bytes = new Uint8Array(sectorSize)
    const values = {
      signature: GPT_SIGNATURE,
      revision: GPT_REVISION,
      headerSize: GPT_HEADER.size,
      myLba,
      alternateLba,
      firstUsableLba: usable.firstLba,
      lastUsableLba: usable.lastLba,
      diskGuid: table.diskGuid,
      entriesLba,
      entryCount: ENTRY_COUNT,
      entrySize: ENTRY_SIZE,
      entriesCrc,
    }
    GPT_HEADER.write(bytes, values)
    GPT_HEADER.write(bytes, { headerCrc: crc32(bytes.subarray(0, GPT_HEADER.size)) })
    return bytes
  }
  return [
    { offset: (lastLba - entrySectors) * sectorSize, bytes: entries },
    { offset: lastLba * sectorSize, bytes: header(lastLba, 1, lastLba - entrySectors) },
    { offset: 2 * sectorSize, bytes: entries },
    { offset: sectorSize, bytes: header(1, lastLba, 2) },
    { offset: 0, bytes: protectiveMbr(lastLba, sectorSize, table) },
  ]
}

/** Writes a table to a device, with a flush at the end. Errors as `gptWrites`. */
export async function writeGpt(device: BlockDevice, table: GptTable): Promise<void> {
  for (const { offset, bytes } of gptWrites(device.size, device.logicalSectorSize, table)) {
    await device.write(offset, bytes)
  }
  await device.flush()
}

async function readCopy(device: BlockDevice, lba: number): Promise<GptCopy> {
  const sectorSize = device.logicalSectorSize
  let bytes: Uint8Array
  try {
    bytes = await readBytes(device, lba * sectorSize, sectorSize)
  } catch (error) {
    return { lba, fault: `cannot be read (${error instanceof Error ? error.message : 'unknown'})` }
  }
  if (asciiToString(bytes.subarray(0, GPT_SIGNATURE.length)) !== GPT_SIGNATURE) {
    return { lba, absent: true, fault: 'does not carry the signature of a GPT' }
  }
  let header: ReturnType<typeof GPT_HEADER.read>
  try {
    header = GPT_HEADER.read(bytes)
  } catch {
    return { lba, fault: 'holds numbers that no drive can have' }
  }
  if (header.headerSize < GPT_HEADER.size || header.headerSize > sectorSize) {
    return { lba, fault: `gives its own length as ${header.headerSize} bytes` }
  }
  const unsigned = bytes.slice(0, header.headerSize)
  GPT_HEADER.write(unsigned, { headerCrc: 0 })
  const crc = crc32(unsigned)
  if (crc !== header.headerCrc) {
    const { alternateLba } = header
    const fault = `fails its checksum (stored ${crcText(header.headerCrc)}, computed ${crcText(crc)})`
    return { lba, fault, alternateLba, ...(await salvage(device, header)) }
  }
  if (header.myLba !== lba) return { lba, fault: `says that it lies at sector ${header.myLba}` }
  const read = await readEntryArray(device, header)
  if ('fault' in read) return { lba, fault: read.fault, alternateLba: header.alternateLba }
  const { diskGuid, entryCount, entrySize, alternateLba, firstUsableLba, lastUsableLba } = header
  const table = { diskGuid, entryCount, entrySize, partitions: read.partitions }
  return { lba, table, headerCrc: crc, entriesCrc: read.crc, alternateLba, firstUsableLba, lastUsableLba }
}

/** The partitions that a header names, with the checksum of their entries; or why not, as the end of a sentence. */
async function readEntryArray(
  device: BlockDevice,
  header: ReturnType<typeof GPT_HEADER.read>,
): Promise<{ partitions: GptPartition[]; crc: number } | { fault: string }> {
  const sectorSize = device.logicalSectorSize
  const tableBytes = header.entryCount * header.entrySize
  const powerOfTwo = header.entrySize >= 128 && Number.isInteger(Math.log2(header.entrySize))
  if (!powerOfTwo || header.entryCount === 0 || tableBytes > MAX_TABLE_BYTES) {
    return { fault: `names ${header.entryCount} entries of ${header.entrySize} bytes` }
  }
  const offset = header.entriesLba * sectorSize
  if (!Number.isSafeInteger(offset) || offset < 2 * sectorSize || offset + tableBytes > device.size) {
    return { fault: `puts its entries at sector ${header.entriesLba}, which is outside` }
  }
  if (header.firstUsableLba > header.lastUsableLba) {
    return { fault: `gives a usable range of ${header.firstUsableLba} to ${header.lastUsableLba}` }
  }
  let entries: Uint8Array
  try {
    entries = await readBytes(device, offset, tableBytes)
  } catch (error) {
    return { fault: `cannot be read (${error instanceof Error ? error.message : 'unknown'})` }
  }
  const crc = crc32(entries)
  if (crc !== header.entriesCrc) {
    const stored = crcText(header.entriesCrc)
    return { fault: `has entries that fail their checksum (stored ${stored}, computed ${crcText(crc)})` }
  }
  try {
    return { partitions: readEntries(entries, header.entryCount, header.entrySize), crc }
  } catch {
    return { fault: 'has an entry with numbers that no drive can have' }
  }
}

/** What can still be had of a copy whose header is damaged: its entries carry a checksum of their own. */
async function salvage(
  device: BlockDevice,
  header: ReturnType<typeof GPT_HEADER.read>,
): Promise<Pick<GptCopy, 'salvaged' | 'entriesCrc' | 'firstUsableLba' | 'lastUsableLba'>> {
  const read = await readEntryArray(device, header)
  if ('fault' in read) return {}
  const { diskGuid, entryCount, entrySize, firstUsableLba, lastUsableLba } = header
  const salvaged = { diskGuid, entryCount, entrySize, partitions: read.partitions }
  return { salvaged, entriesCrc: read.crc, firstUsableLba, lastUsableLba }
}

function readEntries(bytes: Uint8Array, count: number, size: number): GptPartition[] {
  const partitions: GptPartition[] = []
  for (let i = 0; i < count; i++) {
    const entry = GPT_ENTRY.read(bytes, i * size)
    if (entry.typeGuid === NIL_GUID) continue
    partitions.push({ ...entry, number: i + 1, attributes: entry.attributes.toString(16).padStart(16, '0') })
  }
  return partitions
}

function partitionFindings(table: GptTable, firstUsable: number, lastUsable: number): Finding[] {
  const findings: Finding[] = []
  for (const partition of table.partitions) {
    const evidence = `Sectors ${partition.firstLba} to ${partition.lastLba}`
    if (partition.firstLba < firstUsable || partition.lastLba > lastUsable || partition.lastLba < partition.firstLba) {
      findings.push({
        severity: 'damage',
        code: 'gpt.out-of-range',
        sentence: `Partition ${partition.number} lies outside the range that the table allows.`,
        evidence: `${evidence}; usable ${firstUsable} to ${lastUsable}`,
      })
    }
  }
  findings.push(...overlapFindings(table.partitions, 'gpt.overlap'))
  return findings
}

function checkPartitions(table: GptTable, usable: { firstLba: number; lastLba: number }): void {
  const numbers = new Set<number>()
  for (const { number } of table.partitions) {
    if (!Number.isInteger(number) || number < 1 || number > ENTRY_COUNT || numbers.has(number)) {
      throw new CoreError(`Partition number ${number} has no place of its own among the table's ${ENTRY_COUNT}.`)
    }
    numbers.add(number)
  }
  const wrong = partitionFindings(table, usable.firstLba, usable.lastLba)[0]
  if (wrong) throw new CoreError(`${wrong.sentence} ${wrong.evidence}.`)
}

function hex(type: number): string {
  return type.toString(16).toUpperCase().padStart(2, '0')
}

/** One record over all of the drive; with a hybrid, one up to its first partition and one for each that it names. */
function protectiveMbr(lastLba: number, sectorSize: number, table: GptTable): Uint8Array {
  const bytes = new Uint8Array(sectorSize)
  if (table.bootCode) bytes.set(table.bootCode.subarray(0, 440))
  const named = (table.hybrid ?? []).slice(0, 3).flatMap(({ number, type, active }) => {
    const partition = table.partitions.find((p) => p.number === number)
    return partition && partition.lastLba <= 0xffffffff ? [{ ...partition, type, active }] : []
  })
  const covered = Math.min(lastLba, 0xffffffff, ...named.map((p) => p.firstLba - 1))
  const records = [
    { status: 0, type: MBR_TYPES.protective, firstLba: 1, sectors: covered },
    ...named.map(({ type, active, firstLba, lastLba: last }) => ({
      status: active ? STATUS_ACTIVE : 0,
      type,
      firstLba,
      sectors: last - firstLba + 1,
    })),
  ]
  const far = { firstChs: Uint8Array.of(0x00, 0x02, 0x00), lastChs: Uint8Array.of(0xff, 0xff, 0xff) }
  records.forEach((record, i) =>
    MBR_RECORD.write(bytes, { ...record, ...far }, MBR_RECORDS_OFFSET + i * MBR_RECORD.size),
  )
  bytes[MBR_SIGNATURE_OFFSET] = 0x55
  bytes[MBR_SIGNATURE_OFFSET + 1] = 0xaa
  return bytes
}
