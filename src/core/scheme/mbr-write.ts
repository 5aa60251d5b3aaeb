import { CoreError } from '../errors'
import type { TableWrite } from './gpt'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SECTOR, MBR_SIGNATURE, MBR_TYPES, STATUS_ACTIVE } from './mbr-layout'

/** A partition for a new MBR: `logical` ones lie in the one extended partition. */
export interface NewMbrPartition {
  readonly type: number
  readonly firstLba: number
  readonly sectors: number
  readonly active?: boolean
  /** Which of the four records, 1 to 4; the next free one where nothing is said. Not for logical ones. */
  readonly number?: number
}

export interface NewMbr {
  /** Eight hexadecimal digits. */
  readonly diskSignature: string
  readonly bootCode?: Uint8Array
  /** At most four, or three beside an extended one. */
  readonly primary: readonly NewMbrPartition[]
  /** Each needs a free sector in front of it for its record, at `recordLba`. */
  readonly extended?: {
    readonly number?: number
    readonly firstLba: number
    readonly sectors: number
    readonly logical: readonly (NewMbrPartition & { readonly recordLba: number })[]
  }
}

/** All writes that put an MBR and its chain of extended boot records on a drive (UEFI 2.10, section 5.2.1). */
export function mbrWrites(table: NewMbr, sectorSize: 512 | 4096): TableWrite[] {
  const { primary, extended } = table
  if (primary.length + (extended ? 1 : 0) > 4) throw new CoreError('An MBR has room for four partitions.')
  const records: (SectorRecord | undefined)[] = []
  const put = (record: SectorRecord, number: number | undefined) => {
    const free = [0, 1, 2, 3].find((i) => !records[i])!
    const at = number === undefined ? free : number - 1
    if (at < 0 || at > 3 || records[at]) throw new CoreError(`Record ${number} of the MBR is not free.`)
    records[at] = record
  }
  for (const p of primary) put({ ...p, status: p.active ? STATUS_ACTIVE : 0 }, p.number)
  const container = extended && {
    type: MBR_TYPES.extendedLba,
    firstLba: extended.firstLba,
    sectors: extended.sectors,
    status: 0,
  }
  if (container) put(container, extended.number)
  const first = sectorWith(records, sectorSize)
  MBR_SECTOR.write(first, {
    bootCode: table.bootCode ?? new Uint8Array(440),
    diskSignature: parseInt(table.diskSignature, 16),
  })
  const writes: TableWrite[] = [{ offset: 0, bytes: first }]
  extended?.logical.forEach((partition, i) => {
    const next = extended.logical[i + 1]
    // A record counts its own partition from itself, and the next record from the container's start.
    const own = { ...partition, status: 0, firstLba: partition.firstLba - partition.recordLba }
    const link = next && {
      type: MBR_TYPES.extended,
      status: 0,
      firstLba: next.recordLba - extended.firstLba,
      sectors: next.firstLba + next.sectors - next.recordLba,
    }
    writes.push({
      offset: partition.recordLba * sectorSize,
      bytes: sectorWith([own, ...(link ? [link] : [])], sectorSize),
    })
  })
  return writes
}

/** Places beyond what cylinders, heads and sectors can say, as all tables now have. */
const FAR = Uint8Array.of(0xfe, 0xff, 0xff)

interface SectorRecord {
  readonly type: number
  readonly firstLba: number
  readonly sectors: number
  readonly status: number
}

function sectorWith(records: readonly (SectorRecord | undefined)[], sectorSize: number): Uint8Array {
  const bytes = new Uint8Array(sectorSize)
  for (const [i, record] of records.entries()) {
    if (!record) continue
    const { type, firstLba, sectors, status } = record
    const values = { status, type, firstLba, sectors, firstChs: FAR, lastChs: FAR }
    MBR_RECORD.write(bytes, values, MBR_RECORDS_OFFSET + i * MBR_RECORD.size)
  }
  MBR_SECTOR.write(bytes, { signature: MBR_SIGNATURE })
  return bytes
}
