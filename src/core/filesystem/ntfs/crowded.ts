import { alignUp } from '../../bytes/size'
import { BadStructure, NotSupported } from '../../errors'
import { bitIsSet, setBits } from '../bitmap'
import {
  ATTRIBUTE,
  ATTRIBUTE_LIST_ENTRY,
  ATTRIBUTE_TYPES,
  FILE_RECORD,
  NON_RESIDENT,
  RECORD_IN_USE,
  RECORDS,
  recordOf,
  RESIDENT,
} from './layout'
import {
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
import { encodedLength, type Run } from './runs'
import type { FileRecord, NtfsVolume } from './volume'

/** What the volume that is being changed gives to the settling of its crowded records. */
export interface Ground {
  /** The volume as it was. */
  readonly volume: NtfsVolume
  /** The attributes of a record in their new places. */
  attributesOf(record: FileRecord): Uint8Array[]
  mapRuns(runs: readonly Run[]): Run[]
  write(record: number, bytes: Uint8Array): Promise<void>
  writeRuns(runs: readonly Run[], bytes: Uint8Array): Promise<void>
  /** Puts bytes into clusters of their own. */
  store(bytes: Uint8Array): Promise<Run[]>
  /** Gives back clusters, named by their old places. */
  release(runs: readonly Run[]): void
}

/** A record whose attributes have grown beyond it. */
export interface Crowded {
  readonly record: FileRecord
  readonly attributes: Uint8Array[]
}

interface Entry {
  readonly type: number
  readonly name: Uint8Array
  readonly lowestVcn: number
  readonly record: bigint
  readonly id: number
}

/** Moves what no longer goes into a record into free records of the file table, named by an attribute list. */
export class CrowdedRecords {
  private taken!: Uint8Array
  private nextFree: number = RECORDS.firstUser
  private readonly room: number

  constructor(private readonly ground: Ground) {
    const { recordSize } = ground.volume.geometry
    this.room = recordSize - alignUp(FILE_RECORD.size + (recordSize / 512 + 1) * 2, 8) - 8
  }

  /** Throws NotSupported when the file table has no free record, or is itself too scattered. */
  async settle(crowded: readonly Crowded[]): Promise<void> {
    await this.readTaken()
    const byBase = new Map<number, Crowded[]>()
    for (const item of crowded) {
      const { number, header } = item.record
      const base = header.baseRecord === 0n ? number : recordOf(header.baseRecord)
      byBase.set(base, [...(byBase.get(base) ?? []), item])
    }
    if (byBase.has(RECORDS.mft)) {
      throw new NotSupported('The file table of this volume lies in too many pieces for it to be made smaller.')
    }
    for (const [base, items] of byBase) await this.settleFile(base, items)
    await this.writeTaken()
  }

  private async settleFile(baseNumber: number, crowded: readonly Crowded[]): Promise<void> {
    const { volume } = this.ground
    const own = crowded.find((c) => c.record.number === baseNumber)
    const record = own?.record ?? (await volume.record(baseNumber))
    const attributes = own ? own.attributes : this.ground.attributesOf(record)
    const entries = await this.entriesOf(record, attributes)
    const base = referenceTo(record)
    for (const item of crowded) {
      if (item !== own) await this.lighten(item, base, entries)
    }
    const rest = attributes.filter((a) => typeOf(a) !== ATTRIBUTE_TYPES.attributeList)
    const oldList = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.attributeList)
    if (oldList?.placed) this.ground.release(oldList.placed.runs)
    const id = oldList?.id ?? freeId(rest)
    const head = { type: ATTRIBUTE_TYPES.attributeList, id }
    for (;;) {
      const bytes = withAttributes(record, inserted(rest, residentAttribute(head, listBytes(entries))))
      if (bytes) return this.ground.write(baseNumber, bytes)
      const largest = largestPlaced(rest)
      if (largest === undefined) break
      await this.moveOut(largest, 0, record, base, entries)
      rest.splice(rest.indexOf(largest), 1)
    }
    const list = listBytes(entries)
    const runs = await this.ground.store(list)
    const allocatedSize = runs.reduce((sum, run) => sum + run.length, 0) * volume.geometry.clusterSize
    const placed = { runs, allocatedSize, dataSize: list.length, initializedSize: list.length }
    const bytes = withAttributes(record, inserted(rest, nonResidentAttribute(head, placed)))
    if (!bytes) throw new NotSupported(`File record ${baseNumber} has no room for what the smaller volume needs in it.`)
    await this.ground.write(baseNumber, bytes)
  }

  /** Takes the end of the longest run list out of a further record of a file. */
  private async lighten({ record, attributes }: Crowded, base: bigint, entries: Entry[]): Promise<void> {
    for (;;) {
      const bytes = withAttributes(record, attributes)
      if (bytes) return this.ground.write(record.number, bytes)
      const largest = largestPlaced(attributes)
      if (largest === undefined) throw new NotSupported(`File record ${record.number} has no room for its attributes.`)
      const others = attributes.reduce((sum, a) => sum + (a === largest ? 0 : a.length), 0)
      const kept = await this.moveOut(largest, this.room - others, record, base, entries)
      attributes.splice(attributes.indexOf(largest), 1, ...(kept ? [kept] : []))
    }
  }

  /** Moves a run list out of `holder` into records of its own; what goes into `room` bytes stays and is returned. */
  private async moveOut(
    raw: Uint8Array,
    room: number,
    holder: FileRecord,
    base: bigint,
    entries: Entry[],
  ): Promise<Uint8Array | undefined> {
    const { id } = ATTRIBUTE.read(raw)
    const own = referenceTo(holder)
    const at = entries.findIndex((e) => e.record === own && e.id === id && e.type === typeOf(raw))
    if (at < 0) throw new BadStructure('attribute list', 0, `it does not name an attribute of record ${holder.number}`)
    const { name, type } = entries[at]
    const { runsOffset, lowestVcn } = NON_RESIDENT.read(raw)
    const parts = splitRuns(this.ground.volume.runsOf(raw), room - runsOffset - 8, this.room - runsOffset - 8)
    const added: Entry[] = []
    let kept: Uint8Array | undefined
    let vcn = lowestVcn
    for (const [i, runs] of parts.entries()) {
      const sizes = vcn === 0 ? {} : { allocatedSize: 0, dataSize: 0, initializedSize: 0 }
      const part = withRuns(raw, runs, { lowestVcn: vcn, ...sizes })
      if (i === 0 && room > 0) {
        if (runs.length > 0) {
          kept = part
          added.push(entries[at])
        }
      } else {
        const { number, sequence } = await this.freeRecord()
        ATTRIBUTE.write(part, { id: 0 })
        const values = { number, sequence, links: 0, flags: RECORD_IN_USE, base, nextId: 1 }
        await this.ground.write(number, buildRecord(this.ground.volume.geometry.recordSize, values, [part]))
        added.push({ type, name, lowestVcn: vcn, record: (BigInt(sequence) << 48n) | BigInt(number), id: 0 })
      }
      vcn += runs.reduce((sum, run) => sum + run.length, 0)
    }
    entries.splice(at, 1, ...added)
    return kept
  }

  private async entriesOf(record: FileRecord, attributes: readonly Uint8Array[]): Promise<Entry[]> {
    const list = await this.ground.volume.attributeList(record)
    if (!list) {
      const own = referenceTo(record)
      return attributes.map((raw) => {
        const head = ATTRIBUTE.read(raw)
        const lowestVcn = head.nonResident ? NON_RESIDENT.read(raw).lowestVcn : 0
        const name = raw.slice(head.nameOffset, head.nameOffset + head.nameLength * 2)
        return { type: head.type, name, lowestVcn, record: own, id: head.id }
      })
    }
    const entries: Entry[] = []
    for (let at = 0; at + ATTRIBUTE_LIST_ENTRY.size <= list.length;) {
      const { type, length, nameLength, nameOffset, lowestVcn, record: of, id } = ATTRIBUTE_LIST_ENTRY.read(list, at)
      if (length < ATTRIBUTE_LIST_ENTRY.size || nameOffset + nameLength * 2 > length) {
        throw new BadStructure('attribute list', at, `an entry of it is ${length} bytes long`)
      }
      const name = list.slice(at + nameOffset, at + nameOffset + nameLength * 2)
      entries.push({ type, name, lowestVcn, record: of, id })
      at += length
    }
    return entries
  }

  private async readTaken(): Promise<void> {
    const { volume } = this.ground
    const stream = await volume.stream(await volume.record(RECORDS.mft), ATTRIBUTE_TYPES.bitmap)
    if (!stream) throw new BadStructure('file record 0', 0, 'it has no map of records')
    this.taken = await stream.read(0, stream.size)
  }

  private async freeRecord(): Promise<{ number: number; sequence: number }> {
    const { volume } = this.ground
    const most = Math.min(volume.recordCount, this.taken.length * 8)
    while (this.nextFree < most && bitIsSet(this.taken, this.nextFree)) this.nextFree++
    if (this.nextFree >= most) {
      throw new NotSupported(
        'The file table has no free record left for the longer lists that the smaller volume needs. A little more room makes them shorter.',
      )
    }
    const number = this.nextFree++
    setBits(this.taken, number, 1)
    return { number, sequence: Math.max(1, (await volume.recordHeader(number))?.sequence ?? 1) }
  }

  private async writeTaken(): Promise<void> {
    const { volume } = this.ground
    const record = await volume.record(RECORDS.mft)
    const attribute = (await volume.attributes(record)).find((a) => a.type === ATTRIBUTE_TYPES.bitmap)!
    if (attribute.placed) return this.ground.writeRuns(this.ground.mapRuns(attribute.placed.runs), this.taken)
    const attributes = this.ground.attributesOf(record)
    const own = attributes.find((a) => typeOf(a) === ATTRIBUTE_TYPES.bitmap)!
    own.set(this.taken, RESIDENT.read(own).valueOffset)
    await this.ground.write(record.number, withAttributes(record, attributes)!)
  }
}

function largestPlaced(attributes: readonly Uint8Array[]): Uint8Array | undefined {
  return attributes
    .filter((a) => ATTRIBUTE.read(a).nonResident === 1)
    .reduce<Uint8Array | undefined>((a, b) => (a && a.length >= b.length ? a : b), undefined)
}

function listBytes(entries: readonly Entry[]): Uint8Array {
  const lengths = entries.map((e) => alignUp(ATTRIBUTE_LIST_ENTRY.size + e.name.length, 8))
  const bytes = new Uint8Array(lengths.reduce((a, b) => a + b, 0))
  let at = 0
  for (const [i, { type, name, lowestVcn, record, id }] of entries.entries()) {
    const values = { type, length: lengths[i], nameLength: name.length / 2, nameOffset: ATTRIBUTE_LIST_ENTRY.size }
    ATTRIBUTE_LIST_ENTRY.write(bytes, { ...values, lowestVcn, record, id }, at)
    bytes.set(name, at + ATTRIBUTE_LIST_ENTRY.size)
    at += lengths[i]
  }
  return bytes
}

/** Run lists of which the first takes at most `first` bytes and the others `each`; the first may be empty. */
function splitRuns(runs: readonly Run[], first: number, each: number): Run[][] {
  const parts: Run[][] = []
  let part: Run[] = []
  let bytes = 1
  let previous = 0
  let room = first
  const close = () => {
    parts.push(part)
    part = []
    bytes = 1
    previous = 0
    room = each
  }
  for (const run of runs) {
    if (bytes + encodedLength(run, previous) > room) close()
    bytes += encodedLength(run, previous)
    part.push(run)
    if (run.lcn !== null) previous = run.lcn
  }
  close()
  return parts
}
