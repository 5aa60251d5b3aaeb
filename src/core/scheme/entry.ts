import { crc32 } from '../bytes/crc32'
import { viewOf } from '../bytes/struct'
import { type BlockDevice, readBytes, writeBytes } from '../block/device'
import { BadStructure, CoreError, NotSupported } from '../errors'
import { GPT_ENTRY, GPT_HEADER, GPT_SIGNATURE } from './gpt-layout'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SECTORS } from './mbr-layout'
import { readScheme } from '.'

/** What a table says of the content of a partition. */
export type EntryType = { readonly typeGuid: string } | { readonly mbrType: number }

/** More is taken for damage. */
const MOST_ENTRY_BYTES = 4 * 1024 * 1024
const MOST_HEADER_BYTES = 4096

/**
 * Gives one entry of the table that is on a drive another type. All other bytes of both copies stay what they are, but for
 * the checksums over them; a protective or hybrid MBR is not touched. Rejects with CoreError where the table is damaged,
 * has no such partition or is of the other kind, before anything is written.
 */
export async function retype(drive: BlockDevice, number: number, type: EntryType): Promise<void> {
  const { partition } = await entryOf(drive, number)
  if (partition.mbr) {
    if (!('mbrType' in type)) throw new CoreError('The drive has an MBR, whose types are numbers.')
    return changeRecord(drive, partition, { type: type.mbrType })
  }
  if (!('typeGuid' in type)) throw new CoreError('The drive has a GPT, whose types are GUIDs.')
  return writeEntry(drive, number, type)
}

/**
 * Gives one entry of the table that is on a drive other ends; a logical partition keeps its start, which its record
 * counts from. All other bytes of both copies stay what they are, but for the checksums over them. Rejects with CoreError
 * where the table is damaged, has no such partition, or where the new ends are those of no partition or reach into
 * another one, before anything is written.
 */
export async function resizeEntry(
  drive: BlockDevice,
  number: number,
  ends: { readonly firstLba?: number; readonly lastLba?: number },
): Promise<void> {
  const { reading, partition } = await entryOf(drive, number)
  const { firstLba = partition.firstLba, lastLba = partition.lastLba } = ends
  const inTheWay = reading.partitions.find(
    (p) => p.number !== number && p.mbr?.kind !== 'extended' && p.firstLba <= lastLba && firstLba <= p.lastLba,
  )
  if (inTheWay) throw new CoreError(`Partition ${inTheWay.number} lies where partition ${number} is to end.`)
  if (firstLba < 1 || lastLba < firstLba || lastLba >= drive.size / drive.logicalSectorSize)
    throw new CoreError('The partition would have its ends outside of the drive.')
  if (partition.mbr) {
    if (partition.mbr.kind !== 'primary' && firstLba !== partition.firstLba)
      throw new NotSupported('Only a primary partition of an MBR gets another start.')
    return changeRecord(drive, partition, { start: firstLba, sectors: lastLba - firstLba + 1 })
  }
  if (reading.scheme === 'gpt' && reading.gpt.hybrid.some((record) => record.number === number))
    throw new NotSupported('A hybrid MBR names this partition a second time, so that its ends stay.')
  const { firstUsableLba, lastUsableLba } = await usableOf(drive)
  if (firstLba < firstUsableLba || lastLba > lastUsableLba)
    throw new CoreError('The table itself lies where the partition is to end.')
  return writeEntry(drive, number, { firstLba, lastLba })
}

async function entryOf(drive: BlockDevice, number: number) {
  const reading = await readScheme(drive)
  if (!reading || reading.scheme === 'damaged') throw new NotSupported('The drive has no partition table that holds.')
  const partition = reading.partitions.find((p) => p.number === number)
  if (!partition) throw new CoreError(`There is no partition ${number} on the drive.`)
  return { reading, partition }
}

/** The sectors that the header of a GPT leaves to partitions. */
const usableOf = async (drive: BlockDevice) =>
  GPT_HEADER.read(await readBytes(drive, drive.logicalSectorSize, drive.logicalSectorSize))

/** What a new entry says of its partition; sectors are inclusive. */
export interface NewEntry {
  readonly type: EntryType
  readonly firstLba: number
  readonly lastLba: number
  /** Of a GPT. */
  readonly guid: string
}

/**
 * Adds an entry to the table that is on a drive, in the first place that is free, and gives its number. All other bytes
 * stay what they are, but for the checksums of a GPT. Rejects with CoreError where the table is damaged or has no place
 * left, or where the sectors are not free by it, before anything is written.
 */
export async function addEntry(drive: BlockDevice, { type, firstLba, lastLba, guid }: NewEntry): Promise<number> {
  const reading = await readScheme(drive)
  if (!reading || reading.scheme === 'damaged') throw new NotSupported('The drive has no partition table that holds.')
  const inTheWay = reading.partitions.find((p) => p.firstLba <= lastLba && firstLba <= p.lastLba)
  if (inTheWay) throw new CoreError(`Partition ${inTheWay.number} lies where the new one is to be.`)
  const taken = new Set(reading.partitions.map((p) => p.number))
  if (reading.scheme === 'mbr') {
    if (!('mbrType' in type)) throw new CoreError('The drive has an MBR, whose types are numbers.')
    if (lastLba > MBR_SECTORS) throw new CoreError('An MBR counts no sectors so far behind.')
    const number = [1, 2, 3, 4].find((n) => !taken.has(n))
    if (number === undefined)
      throw new CoreError('The MBR names four partitions already, and has no place for another.')
    const sector = await readBytes(drive, 0, drive.logicalSectorSize)
    const record = new Uint8Array(MBR_RECORD.size)
    const sectors = lastLba - firstLba + 1
    MBR_RECORD.write(record, { firstChs: BEYOND_CHS, type: type.mbrType, lastChs: BEYOND_CHS, firstLba, sectors })
    sector.set(record, MBR_RECORDS_OFFSET + (number - 1) * MBR_RECORD.size)
    await drive.write(0, sector)
    await drive.flush()
    return number
  }
  if (!('typeGuid' in type)) throw new CoreError('The drive has a GPT, whose types are GUIDs.')
  const { entryCount, firstUsableLba, lastUsableLba } = await usableOf(drive)
  if (firstLba < firstUsableLba || lastLba > lastUsableLba)
    throw new CoreError('The table itself lies where the new partition is to be.')
  let number = 1
  while (taken.has(number)) number++
  if (number > entryCount) throw new CoreError('The table has no place for another partition.')
  await writeEntry(drive, number, { ...type, guid, firstLba, lastLba, attributes: 0n, name: '' })
  return number
}

type EntryFields = Parameters<typeof GPT_ENTRY.write>[1]

async function writeEntry(drive: BlockDevice, number: number, fields: EntryFields): Promise<void> {
  const last = drive.size / drive.logicalSectorSize - 1
  const copies = [await copyWith(drive, 1, number, fields), await copyWith(drive, last, number, fields)]
  // The backup first: whichever copy is cut off, the other is whole.
  for (const { entryAt, entry, headerAt, header } of copies.reverse()) {
    await writeBytes(drive, entryAt, entry)
    await writeBytes(drive, headerAt, header)
    await drive.flush()
  }
}

/** One copy of a GPT with the entry changed: UEFI 2.10, sections 5.3.2 and 5.3.3. */
async function copyWith(drive: BlockDevice, lba: number, number: number, changed: EntryFields) {
  const sector = drive.logicalSectorSize
  const headerAt = lba * sector
  const whole = await readBytes(drive, headerAt, sector)
  const { signature, headerSize, headerCrc, entriesLba, entryCount, entrySize, entriesCrc } = GPT_HEADER.read(whole)
  const bad = (why: string) => new BadStructure('partition table', headerAt, why)
  const bytes = entryCount * entrySize
  const sane =
    signature === GPT_SIGNATURE &&
    headerSize >= GPT_HEADER.size &&
    headerSize <= Math.min(sector, MOST_HEADER_BYTES) &&
    entrySize >= GPT_ENTRY.size &&
    bytes <= MOST_ENTRY_BYTES &&
    number >= 1 &&
    number <= entryCount &&
    entriesLba * sector + bytes <= drive.size
  if (!sane) throw bad('one of its copies does not hold')
  const header = whole.slice(0, headerSize)
  GPT_HEADER.write(header, { headerCrc: 0 })
  const entriesAt = entriesLba * sector
  const entries = await readBytes(drive, entriesAt, bytes)
  if (crc32(header) !== headerCrc || crc32(entries) !== entriesCrc) throw bad('one of its copies fails its checksum')
  const at = (number - 1) * entrySize
  const entry = entries.subarray(at, at + GPT_ENTRY.size)
  GPT_ENTRY.write(entry, changed)
  GPT_HEADER.write(header, { entriesCrc: crc32(entries) })
  GPT_HEADER.write(header, { headerCrc: crc32(header) })
  return { entryAt: entriesAt + at, entry, headerAt, header }
}

/** What CHS fields say of a place that they cannot count to. */
const BEYOND_CHS = Uint8Array.of(0xfe, 0xff, 0xff)

async function changeRecord(
  drive: BlockDevice,
  { firstLba, mbr }: { firstLba: number; mbr?: { recordLba: number } },
  change: { readonly type: number } | { readonly start: number; readonly sectors: number },
): Promise<void> {
  const recordLba = mbr!.recordLba
  const at = recordLba * drive.logicalSectorSize
  const sector = await readBytes(drive, at, drive.logicalSectorSize)
  for (let i = 0; i < 4; i++) {
    const record = MBR_RECORDS_OFFSET + i * MBR_RECORD.size
    const { type: old, firstLba: first, sectors } = MBR_RECORD.read(sector, record)
    // In an extended boot record places count from that record.
    if (old === 0 || sectors === 0 || (recordLba === 0 ? first : recordLba + first) !== firstLba) continue
    if ('type' in change) viewOf(sector).setUint8(record + 4, change.type)
    else {
      const start = change.start - recordLba
      if (start + change.sectors > MBR_SECTORS) throw new CoreError('An MBR counts no sectors so far behind.')
      const moved = start === first ? {} : { firstLba: start, firstChs: BEYOND_CHS }
      MBR_RECORD.write(sector, { ...moved, sectors: change.sectors, lastChs: BEYOND_CHS }, record)
    }
    await drive.write(at, sector)
    await drive.flush()
    return
  }
  throw new BadStructure('partition table', at, 'the record of the partition is not where it was')
}
