import { alignUp } from '../../bytes/size'
import { BadStructure, NotSupported } from '../../errors'
import type { ListEntry } from './attribute-list'
import { entriesOf, type FileTable, listAttribute, splitRuns, type VolumeEdit } from './file-table'
import { ATTRIBUTE, ATTRIBUTE_TYPES, FILE_RECORD, NON_RESIDENT, RECORD_IN_USE, recordOf } from './layout'
import { buildRecord, freeId, inserted, referenceTo, typeOf, withAttributes, withRuns } from './records'
import { clustersOf } from './runs'
import type { FileRecord } from './volume'

/** A record whose attributes have grown beyond it. */
export interface OverfullRecord {
  readonly record: FileRecord
  readonly attributes: Uint8Array[]
}

/** Moves what no longer goes into a record into free records of the file table, named by an attribute list. */
export class AttributeListOverflow {
  /** Bytes of attributes that a record of its own takes. */
  private readonly room: number

  constructor(
    private readonly edit: VolumeEdit,
    private readonly table: FileTable,
  ) {
    const { recordSize } = edit.volume.geometry
    this.room = recordSize - alignUp(FILE_RECORD.size + (recordSize / 512 + 1) * 2, 8) - 8
  }

  /** Throws NotSupported when a file would lie in more pieces than can be listed. */
  async settle(overfull: readonly OverfullRecord[]): Promise<void> {
    const byBase = new Map<number, OverfullRecord[]>()
    for (const item of overfull) {
      const { number, header } = item.record
      const base = header.baseRecord === 0n ? number : recordOf(header.baseRecord)
      byBase.set(base, [...(byBase.get(base) ?? []), item])
    }
    for (const [base, items] of byBase) await this.settleFile(base, items)
  }

  private async settleFile(baseNumber: number, overfull: readonly OverfullRecord[]): Promise<void> {
    const { edit } = this
    const own = overfull.find((c) => c.record.number === baseNumber)
    const record = own?.record ?? (await edit.volume.record(baseNumber))
    const attributes = own ? own.attributes : edit.attributesOf(record)
    const entries = await entriesOf(edit.volume, record, attributes)
    const base = referenceTo(record)
    for (const item of overfull) {
      if (item !== own) await this.lighten(item, base, entries)
    }
    const rest = attributes.filter((a) => typeOf(a) !== ATTRIBUTE_TYPES.attributeList)
    const oldList = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.attributeList)
    if (oldList?.placed) edit.releaseClusters(edit.mapRuns(oldList.placed.runs))
    const id = oldList?.id ?? freeId(rest)
    const free = () =>
      record.bytes.length - record.header.attributesOffset - 8 - rest.reduce((sum, a) => sum + a.length, 0)
    for (;;) {
      // As long as something can still be moved out, the list stays in the record.
      const largest = largestPlaced(rest)
      const listLength = alignUp(24 + entries.reduce((sum, e) => sum + entryLength(e), 0), 8)
      if (listLength <= free() || largest === undefined) break
      await this.moveOut(largest, 0, record, base, entries)
      rest.splice(rest.indexOf(largest), 1)
    }
    const list = await listAttribute(edit, id, entries, free())
    const bytes = withAttributes(record, inserted(rest, list))
    if (!bytes) throw new NotSupported(`File record ${baseNumber} has no room for what the smaller volume needs in it.`)
    await edit.table.write(baseNumber, bytes)
  }

  /** Takes the end of the longest run list out of a further record of a file. */
  private async lighten({ record, attributes }: OverfullRecord, base: bigint, entries: ListEntry[]): Promise<void> {
    for (;;) {
      const bytes = withAttributes(record, attributes)
      if (bytes) return this.edit.table.write(record.number, bytes)
      const largest = largestPlaced(attributes)
      if (largest === undefined) throw new NotSupported(`File record ${record.number} has no room for its attributes.`)
      const others = attributes.reduce((sum, a) => sum + (a === largest ? 0 : a.length), 0)
      const kept = await this.moveOut(largest, this.room - others, record, base, entries)
      attributes.splice(attributes.indexOf(largest), 1, ...(kept ? [kept] : []))
    }
  }

  /**
   * Moves a run list out of `holder` into records of its own. What goes into `room` bytes stays in the holder and is
   * returned; undefined when nothing of it does.
   */
  private async moveOut(
    raw: Uint8Array,
    room: number,
    holder: FileRecord,
    base: bigint,
    entries: ListEntry[],
  ): Promise<Uint8Array | undefined> {
    const { id } = ATTRIBUTE.read(raw)
    const own = referenceTo(holder)
    const at = entries.findIndex((e) => e.record === own && e.id === id && e.type === typeOf(raw))
    if (at < 0) throw new BadStructure('attribute list', 0, `it does not name an attribute of record ${holder.number}`)
    const { runsOffset, lowestVcn } = NON_RESIDENT.read(raw)
    const each = this.room - runsOffset - 8
    const first = room - runsOffset - 8
    // A part without clusters would stand at the place of the whole stream, so nothing stays where none fits.
    const stays = first >= MOST_RUN_BYTES
    const parts = splitRuns(this.edit.volume.runsOf(raw), stays ? first : each, each)
    const added: ListEntry[] = []
    let kept: Uint8Array | undefined
    let vcn = lowestVcn
    for (const [i, runs] of parts.entries()) {
      const sizes = vcn === 0 ? {} : { allocatedSize: 0, dataSize: 0, initializedSize: 0 }
      const part = withRuns(raw, runs, { lowestVcn: vcn, ...sizes })
      if (i === 0 && stays) {
        kept = part
        added.push(entries[at])
      } else {
        const { number, sequence } = await this.table.takeRecord()
        ATTRIBUTE.write(part, { id: 0 })
        const values = { number, sequence, links: 0, flags: RECORD_IN_USE, base, nextId: 1 }
        await this.edit.table.write(number, buildRecord(this.edit.volume.geometry.recordSize, values, [part]))
        const record = (BigInt(sequence) << 48n) | BigInt(number)
        added.push({ ...entries[at], lowestVcn: vcn, record, id: 0 })
      }
      vcn += clustersOf(runs)
    }
    entries.splice(at, 1, ...added)
    return kept
  }
}

/** The end of a run list, and the longest run that there can be. */
const MOST_RUN_BYTES = 1 + 1 + 8 + 8

function entryLength({ name }: ListEntry): number {
  return alignUp(26 + name.length * 2, 8)
}

function largestPlaced(attributes: readonly Uint8Array[]): Uint8Array | undefined {
  return attributes
    .filter((a) => ATTRIBUTE.read(a).nonResident === 1)
    .reduce<Uint8Array | undefined>((a, b) => (a && a.length >= b.length ? a : b), undefined)
}
