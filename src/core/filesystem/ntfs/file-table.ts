import { alignUp } from '../../bytes/size'
import { BadStructure, NotSupported } from '../../errors'
import { bitIsSet, setBits } from '../bitmap'
import { type ListEntry, listBytes, listEntries, MOST_LIST_BYTES } from './attribute-list'
import type { FileTableWriter } from './file-table-writer'
import { ATTRIBUTE, ATTRIBUTE_TYPES, NON_RESIDENT, RECORD_IN_USE, RECORDS } from './layout'
import {
  attributeName,
  buildRecord,
  freeId,
  inserted,
  nonResidentAttribute,
  referenceTo,
  residentAttribute,
  typeOf,
  withAttributes,
  withRuns,
} from './records'
import { clustersOf, encodedLength, joinRuns, type Run, writeRuns } from './runs'
import type { Attribute, FileRecord, NtfsVolume } from './volume'

/** What a volume that is being changed lends to those who change it. */
export interface VolumeEdit {
  /** The volume as it was. */
  readonly volume: NtfsVolume
  /** Writes records in their new places. */
  readonly table: FileTableWriter
  /** The attributes of a record with their runs in their new places. */
  attributesOf(record: FileRecord): Uint8Array[]
  /** Old places to new ones. */
  mapRuns(runs: readonly Run[]): Run[]
  /** Free clusters, taken. Throws CoreError when there are too few. */
  takeClusters(count: number): Run[]
  /** Gives back clusters, named by their new places. */
  releaseClusters(runs: readonly Run[]): void
}

/** So many records are added to a file table that has no free one. */
const MORE_RECORDS = 64
/** Bytes kept in the table's own record for an attribute list that lies in clusters. */
const LIST_ROOM = 128

/** Writes `bytes` into clusters of their own, what is left of the last one as zeros. */
export async function storeBytes({ volume, table, takeClusters }: EditGround, bytes: Uint8Array): Promise<Run[]> {
  const { clusterSize } = volume.geometry
  const padded = new Uint8Array(alignUp(bytes.length, clusterSize))
  padded.set(bytes)
  const runs = takeClusters(padded.length / clusterSize)
  await writeRuns(table.device, runs, clusterSize, padded)
  return runs
}

type EditGround = Pick<VolumeEdit, 'volume' | 'table' | 'takeClusters'>

/** The lines that name a file's attributes: its list, or what a list of it would say. Throws BadStructure. */
export async function entriesOf(
  volume: NtfsVolume,
  record: FileRecord,
  attributes: readonly Uint8Array[],
): Promise<ListEntry[]> {
  const list = await volume.attributeList(record)
  if (list) return listEntries(list)
  const own = referenceTo(record)
  return attributes.map((raw) => {
    const { type, nonResident, id } = ATTRIBUTE.read(raw)
    const lowestVcn = nonResident ? NON_RESIDENT.read(raw).lowestVcn : 0
    return { type, name: attributeName(raw), lowestVcn, record: own, id, at: 0 }
  })
}

/** A list as an attribute in the record if it goes into `room` bytes, else in clusters of its own. */
export async function listAttribute(
  edit: VolumeEdit,
  id: number,
  entries: readonly ListEntry[],
  room: number,
): Promise<Uint8Array> {
  const head = { type: ATTRIBUTE_TYPES.attributeList, id }
  const list = listBytes(entries)
  if (list.length > MOST_LIST_BYTES) {
    throw new NotSupported('A file of this volume would lie in more pieces than its system can list.')
  }
  const resident = residentAttribute(head, list)
  if (resident.length <= room) return resident
  const runs = await storeBytes(edit, list)
  const allocatedSize = clustersOf(runs) * edit.volume.geometry.clusterSize
  return nonResidentAttribute(head, { runs, allocatedSize, dataSize: list.length, initializedSize: list.length })
}

/** Run lists of which the first takes at most `first` bytes and each other one `each`. None is empty. */
export function splitRuns(runs: readonly Run[], first: number, each: number): Run[][] {
  const parts: Run[][] = []
  let part: Run[] = []
  let bytes = 1
  let previous = 0
  for (const run of runs) {
    const room = parts.length === 0 ? first : each
    if (part.length > 0 && bytes + encodedLength(run, previous) > room) {
      parts.push(part)
      part = []
      bytes = 1
      previous = 0
    }
    bytes += encodedLength(run, previous)
    part.push(run)
    if (run.lcn !== null) previous = run.lcn
  }
  parts.push(part)
  return parts
}

/** The file table of a volume that is being changed: its free records, its length, and its own record. */
export class FileTable {
  private taken!: Uint8Array
  /** Records that are there and initialised. */
  private count: number
  private nextFree: number = RECORDS.firstUser
  private readonly recordSize: number
  private readonly clusterSize: number

  private constructor(
    private readonly edit: VolumeEdit,
    private readonly base: FileRecord,
    private readonly parts: readonly Attribute[],
  ) {
    const { recordSize, clusterSize } = edit.volume.geometry
    this.recordSize = recordSize
    this.clusterSize = clusterSize
    const { initializedSize } = this.parts[0].placed!
    this.count = Math.min(edit.volume.recordCount, Math.floor(initializedSize / recordSize))
  }

  /** Throws BadStructure when the table lacks what every table has. */
  static async open(edit: VolumeEdit): Promise<FileTable> {
    const { volume } = edit
    const base = await volume.record(RECORDS.mft)
    const all = await volume.attributes(base)
    const isData = (a: Attribute) => a.type === ATTRIBUTE_TYPES.data && a.name === '' && a.placed
    const parts = all.filter(isData).sort((a, b) => a.placed!.lowestVcn - b.placed!.lowestVcn)
    const map = await volume.stream(base, ATTRIBUTE_TYPES.bitmap)
    if (parts.length === 0 || !map) throw new BadStructure('file record 0', 0, 'it has no map of records')
    const table = new FileTable(edit, base, parts)
    table.taken = await map.read(0, map.size)
    return table
  }

  /** Numbers of the records that hold the table's own run list; they are written by `save`. */
  ownRecords(): ReadonlySet<number> {
    return new Set([RECORDS.mft, ...this.parts.map((part) => part.record)])
  }

  /** A record that no file has, taken; the table becomes longer where there is none. */
  async takeRecord(): Promise<{ number: number; sequence: number }> {
    const free = () => {
      while (this.nextFree < this.count && this.isTaken(this.nextFree)) this.nextFree++
      return this.nextFree < this.count
    }
    if (!free()) {
      await this.extend()
      free()
    }
    return this.take(this.nextFree++)
  }

  /** Gives back the record of a file that is no more, under the next number of its kind. */
  async release(number: number): Promise<void> {
    const { sequence } = (await this.edit.volume.record(number)).header
    setBits(this.taken, number, 1, false)
    // 0 is no sequence of a file's.
    const next = sequence >= 0xffff ? 1 : sequence + 1
    await this.edit.table.write(
      number,
      buildRecord(this.recordSize, { number, sequence: next, links: 0, flags: 0, nextId: 0 }, []),
    )
  }

  /**
   * Writes the table's own record: where it lies, its length, and its map of records. Throws NotSupported when the
   * table lies in so many pieces that its beginning does not reach the records which would name them.
   */
  async save(): Promise<void> {
    const { edit, base } = this
    const own = referenceTo(base)
    const attributes = edit.attributesOf(base)
    const isData = (raw: Uint8Array) => typeOf(raw) === ATTRIBUTE_TYPES.data && attributeName(raw) === ''
    const others = (await entriesOf(edit.volume, base, attributes)).filter(
      (e) => !(e.type === ATTRIBUTE_TYPES.data && e.name === ''),
    )
    const oldList = base.attributes.find((a) => a.type === ATTRIBUTE_TYPES.attributeList)
    const candidates = await this.releaseParts()
    const { runs } = edit.table
    const dataRaw = attributes.find(isData)!
    const sizes = {
      allocatedSize: clustersOf(runs) * this.clusterSize,
      dataSize: Math.max(edit.volume.recordCount, this.count) * this.recordSize,
      initializedSize: Math.max(this.parts[0].placed!.initializedSize, this.count * this.recordSize),
    }
    let rest = attributes.filter((raw) => !isData(raw) && typeOf(raw) !== ATTRIBUTE_TYPES.attributeList)
    const whole = withRuns(dataRaw, runs, sizes)
    const outside = others.some((e) => e.record !== own)
    if (!outside) {
      const plain = await this.withMap(rest)
      const bytes = withAttributes(base, inserted(plain, whole))
      if (bytes) {
        if (oldList?.placed) edit.releaseClusters(edit.mapRuns(oldList.placed.runs))
        return this.writeAll(bytes)
      }
    }
    const { attributesOffset } = base.header
    const runsOffset = NON_RESIDENT.read(dataRaw).runsOffset
    const used = () => attributesOffset + 8 + rest.reduce((sum, a) => sum + a.length, 0)
    const room = this.recordSize - used() - LIST_ROOM - runsOffset - 8
    const each = this.recordSize - attributesOffset - 8 - runsOffset - 8
    const parts = splitRuns(runs, room, each)
    const entries: ListEntry[] = [{ ...entryOf(dataRaw, own), lowestVcn: 0 }]
    let vcn = clustersOf(parts[0])
    for (const part of parts.slice(1)) {
      const { number, sequence } = await this.takeReachable(candidates, vcn * this.clusterSize)
      const raw = withRuns(dataRaw, part, { lowestVcn: vcn, allocatedSize: 0, dataSize: 0, initializedSize: 0 })
      ATTRIBUTE.write(raw, { id: 0 })
      const values = { number, sequence, links: 0, flags: RECORD_IN_USE, base: own, nextId: 1 }
      await edit.table.write(number, buildRecord(this.recordSize, values, [raw]))
      entries.push({ ...entryOf(raw, (BigInt(sequence) << 48n) | BigInt(number)), lowestVcn: vcn })
      vcn += clustersOf(part)
    }
    // In order of type: what stands behind the data is the map of records, and what a system added.
    const before = others.filter((e) => e.type <= ATTRIBUTE_TYPES.data && e.type !== ATTRIBUTE_TYPES.attributeList)
    const behind = others.filter((e) => e.type > ATTRIBUTE_TYPES.data)
    if (oldList?.placed) edit.releaseClusters(edit.mapRuns(oldList.placed.runs))
    rest = await this.withMap(rest)
    const id = oldList?.id ?? freeId([...rest, dataRaw])
    const list = await listAttribute(edit, id, [...before, ...entries, ...behind], LIST_ROOM)
    const bytes = withAttributes(base, inserted(inserted(rest, list), withRuns(dataRaw, parts[0], sizes)))
    if (!bytes) throw new NotSupported('The file table of this volume lies in too many pieces for it to be resized.')
    await this.writeAll(bytes)
  }

  private async writeAll(base: Uint8Array): Promise<void> {
    await this.edit.table.write(RECORDS.mft, base)
    await this.edit.table.refreshMirror()
  }

  private isTaken(number: number): boolean {
    return number < this.taken.length * 8 && bitIsSet(this.taken, number)
  }

  /** Whether a record says of itself that it is in use, whatever the map has. */
  private async isInUse(number: number): Promise<boolean> {
    const { volume } = this.edit
    const header = number < volume.recordCount ? await volume.recordHeader(number) : undefined
    return header !== undefined && (header.flags & RECORD_IN_USE) !== 0
  }

  private async take(number: number): Promise<{ number: number; sequence: number }> {
    this.mark(number)
    const { volume } = this.edit
    const old = number < volume.recordCount ? await volume.recordHeader(number) : undefined
    return { number, sequence: Math.max(1, old?.sequence ?? 1) }
  }

  private mark(number: number): void {
    const bytes = alignUp(Math.ceil((number + 1) / 8), 8)
    if (bytes > this.taken.length) {
      const longer = new Uint8Array(bytes)
      longer.set(this.taken)
      this.taken = longer
    }
    setBits(this.taken, number, 1)
  }

  /** Makes the table longer: by what its clusters hold already, else by clusters of its own. */
  private async extend(): Promise<void> {
    const { edit, recordSize, clusterSize } = this
    const holds = () => Math.floor((clustersOf(edit.table.runs) * clusterSize) / recordSize)
    if (holds() <= this.count) {
      const more = edit.takeClusters(Math.ceil((MORE_RECORDS * recordSize) / clusterSize))
      edit.table.placeTable(joinRuns([...edit.table.runs, ...more]))
    }
    const end = Math.min(holds(), this.count + MORE_RECORDS)
    for (; this.count < end; this.count++) {
      const values = { number: this.count, sequence: 1, links: 0, flags: 0, nextId: 0 }
      await edit.table.write(this.count, buildRecord(recordSize, values, []))
    }
  }

  /** Gives back the records in which the table's run list goes on; they come first when it is written anew. */
  private async releaseParts(): Promise<{ number: number; sequence: number }[]> {
    const numbers = [...this.ownRecords()].filter((n) => n !== RECORDS.mft).sort((a, b) => a - b)
    const released: { number: number; sequence: number }[] = []
    for (const number of numbers) {
      const record = await this.edit.volume.record(number)
      if (record.attributes.length !== 1) {
        throw new NotSupported('The file table of this volume is kept in an unusual way, so the volume keeps its size.')
      }
      released.push({ number, sequence: record.header.sequence })
      setBits(this.taken, number, 1, false)
      const blank = { number, sequence: record.header.sequence, links: 0, flags: 0, nextId: 0 }
      await this.edit.table.write(number, buildRecord(this.recordSize, blank, []))
    }
    return released
  }

  /** A free record that lies whole in the first `bytes` of the table. */
  private async takeReachable(
    candidates: { number: number; sequence: number }[],
    bytes: number,
  ): Promise<{ number: number; sequence: number }> {
    const reaches = (number: number) => (number + 1) * this.recordSize <= bytes
    const old = candidates.findIndex(({ number }) => reaches(number))
    if (old >= 0) {
      const [again] = candidates.splice(old, 1)
      this.mark(again.number)
      return again
    }
    // The records in front of the first file's are kept for this very use: a table full of files has no other there.
    let number: number = RECORDS.firstReserved
    while (number < this.count && (this.isTaken(number) || (await this.isInUse(number)))) number++
    if (number >= this.count || !reaches(number)) {
      throw new NotSupported('The file table of this volume lies in too many pieces for it to be resized.')
    }
    return this.take(number)
  }

  /** The attributes with the table's map of records as it is now; a map that stands elsewhere is written there. */
  private async withMap(attributes: readonly Uint8Array[]): Promise<Uint8Array[]> {
    const { edit, base } = this
    const at = attributes.findIndex((raw) => typeOf(raw) === ATTRIBUTE_TYPES.bitmap)
    if (at >= 0) {
      const raw = await this.mapAttribute(attributes[at])
      return attributes.map((a, i) => (i === at ? raw : a))
    }
    const found = (await edit.volume.attributes(base)).filter((a) => a.type === ATTRIBUTE_TYPES.bitmap)
    if (found.length !== 1) throw new NotSupported('The map of this file table is too scattered for it to be changed.')
    const holder = await edit.volume.record(found[0].record)
    const theirs = edit.attributesOf(holder)
    const raw = await this.mapAttribute(theirs.find((a) => typeOf(a) === ATTRIBUTE_TYPES.bitmap)!)
    const bytes = withAttributes(
      holder,
      theirs.map((a) => (typeOf(a) === ATTRIBUTE_TYPES.bitmap ? raw : a)),
    )
    if (!bytes) throw new NotSupported('The map of this file table is too scattered for it to be changed.')
    await edit.table.write(holder.number, bytes)
    return [...attributes]
  }

  private async mapAttribute(raw: Uint8Array): Promise<Uint8Array> {
    const { edit, taken, clusterSize } = this
    const { id, nonResident } = ATTRIBUTE.read(raw)
    if (!nonResident) return residentAttribute({ type: ATTRIBUTE_TYPES.bitmap, id }, taken)
    const { dataSize } = NON_RESIDENT.read(raw)
    let runs = [...edit.volume.runsOf(raw)]
    const have = clustersOf(runs)
    const need = Math.ceil(taken.length / clusterSize)
    if (need > have) runs = joinRuns([...runs, ...edit.takeClusters(need - have)])
    const padded = new Uint8Array(clustersOf(runs) * clusterSize)
    padded.set(taken)
    await writeRuns(edit.table.device, runs, clusterSize, padded)
    const length = Math.max(dataSize, taken.length)
    return withRuns(raw, runs, {
      allocatedSize: clustersOf(runs) * clusterSize,
      dataSize: length,
      initializedSize: length,
    })
  }
}

function entryOf(raw: Uint8Array, record: bigint): ListEntry {
  const { type, id } = ATTRIBUTE.read(raw)
  return { type, name: attributeName(raw), lowestVcn: NON_RESIDENT.read(raw).lowestVcn, record, id, at: 0 }
}
