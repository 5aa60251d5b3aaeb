import { type BlockDevice, readBytes, readInto, UnreadableSectors } from '../../block/device'
import { viewOf, utf16ToString } from '../../bytes/struct'
import { BadStructure, NotSupported } from '../../errors'
import { allocate } from '../allocate'
import { unpackUnit } from './compression'
import { removeFixups } from './fixups'
import {
  ATTRIBUTE,
  ATTRIBUTE_COMPRESSED,
  ATTRIBUTE_ENCRYPTED,
  ATTRIBUTE_TYPES,
  BOOT_SECTOR,
  FILE_RECORD,
  NON_RESIDENT,
  RECORD_IN_USE,
  RECORDS,
  RESIDENT,
  recordOf,
} from './layout'
import { listEntries, MOST_LIST_BYTES } from './attribute-list'
import { clipRuns, clustersOf, decodeRuns, type Run } from './runs'

/** The numbers of the boot sector, checked. */
export interface Geometry {
  readonly sectorSize: number
  readonly clusterSize: number
  readonly totalSectors: number
  readonly totalClusters: number
  readonly mftLcn: number
  readonly mftMirrorLcn: number
  readonly recordSize: number
  readonly indexBlockSize: number
  readonly serial: bigint
}

/** One attribute as it stands in a record. `at` is its offset in the record. */
export interface Attribute {
  readonly record: number
  readonly at: number
  readonly type: number
  readonly name: string
  readonly flags: number
  readonly id: number
  readonly length: number
  /** Present when the value lies in the record. */
  readonly value?: Uint8Array
  /** Present when the value lies in clusters. */
  readonly placed?: Placement
}

export interface Placement {
  readonly lowestVcn: number
  readonly runs: readonly Run[]
  readonly allocatedSize: number
  readonly dataSize: number
  readonly initializedSize: number
  /** Clusters of a compression unit as a power of two; 0 where the stream is not compressed. */
  readonly compressionUnit: number
}

/** A record with its fix-ups removed and its attributes split. */
export interface FileRecord {
  readonly number: number
  readonly bytes: Uint8Array
  readonly header: ReturnType<typeof FILE_RECORD.read>
  readonly attributes: readonly Attribute[]
}

/** A value of any length that can be read in parts. */
export interface Stream {
  readonly size: number
  readonly runs: readonly Run[]
  read(offset: number, length: number): Promise<Uint8Array>
  /** Fills `into` from `offset`; what lies behind the end is left as it is. */
  fill(offset: number, into: Uint8Array): Promise<void>
}

const MAX_ATTRIBUTES = 1024
/** The reparse tag of a file that the system's own packing has taken in. */
const COMPACTED_TAG = 0x80000017

/** Reads and checks the boot sector. Throws BadStructure. */
export async function readGeometry(device: BlockDevice): Promise<Geometry> {
  const boot = BOOT_SECTOR.read(await readBytes(device, 0, 512))
  const bad = (why: string) => new BadStructure('NTFS boot sector', 0, why)
  if (boot.oemId !== 'NTFS    ' || boot.signature !== 0xaa55) throw bad('it does not carry the NTFS signature')
  const perCluster = boot.sectorsPerCluster > 0x80 ? 2 ** (256 - boot.sectorsPerCluster) : boot.sectorsPerCluster
  if (![512, 1024, 2048, 4096].includes(boot.bytesPerSector))
    throw bad(`it gives ${boot.bytesPerSector} bytes a sector`)
  const clusterSize = boot.bytesPerSector * perCluster
  if (!powerOfTwo(perCluster) || clusterSize > 2 * 1024 * 1024) throw bad(`it gives ${perCluster} sectors a cluster`)
  if (boot.bytesPerSector !== device.logicalSectorSize) {
    throw bad(`it was made for sectors of ${boot.bytesPerSector} bytes, and the drive has ${device.logicalSectorSize}`)
  }
  const unit = (value: number) => (value < 0 ? 2 ** -value : value * clusterSize)
  const recordSize = unit(boot.clustersPerRecord)
  const indexBlockSize = unit(boot.clustersPerIndexBlock)
  if (!powerOfTwo(recordSize) || recordSize < 512 || recordSize > 65536)
    throw bad(`a record would be ${recordSize} bytes`)
  if (!powerOfTwo(indexBlockSize) || indexBlockSize < 512 || indexBlockSize > 65536) {
    throw bad(`an index block would be ${indexBlockSize} bytes`)
  }
  const totalClusters = Math.floor(boot.totalSectors / perCluster)
  if (boot.totalSectors === 0 || boot.totalSectors * boot.bytesPerSector > device.size) {
    throw bad(`the volume claims ${boot.totalSectors} sectors, which is more than its partition has`)
  }
  if (boot.mftLcn >= totalClusters || boot.mftMirrorLcn >= totalClusters) throw bad('its file table lies outside')
  return {
    sectorSize: boot.bytesPerSector,
    clusterSize,
    totalSectors: boot.totalSectors,
    totalClusters,
    mftLcn: boot.mftLcn,
    mftMirrorLcn: boot.mftMirrorLcn,
    recordSize,
    indexBlockSize,
    serial: boot.serial,
  }
}

/** An opened NTFS volume below the level of names: records, attributes, streams. */
export class NtfsVolume {
  private mft!: Stream
  /** What was wrong with the file table's first record, when its copy had to be used. */
  fromMirror?: string

  private constructor(
    readonly device: BlockDevice,
    readonly geometry: Geometry,
  ) {}

  /** Opens the volume and its file table. Throws BadStructure. */
  static async open(device: BlockDevice): Promise<NtfsVolume> {
    const geometry = await readGeometry(device)
    const volume = new NtfsVolume(device, geometry)
    const at = geometry.mftLcn * geometry.clusterSize
    const firstAt = async (offset: number) =>
      volume.parseRecord(RECORDS.mft, await readBytes(device, offset, geometry.recordSize), offset)
    const first = await firstAt(at).catch(async (error: unknown) => {
      if (!(error instanceof BadStructure) && !(error instanceof UnreadableSectors)) throw error
      // The table's first records stand a second time elsewhere.
      const copy = await firstAt(geometry.mftMirrorLcn * geometry.clusterSize).catch(() => undefined)
      if (!copy) throw error
      volume.fromMirror = error.message
      return copy
    })
    await volume.openTable(first, at)
    return volume
  }

  /**
   * Puts the file table together. Of a table in very many pieces the run list goes on in records of the table itself,
   * each of which lies in what the ones before it have made known.
   */
  private async openTable(first: FileRecord, at: number): Promise<void> {
    const isData = (a: Attribute) => a.type === ATTRIBUTE_TYPES.data && a.name === ''
    const parts = first.attributes.filter(isData)
    const { dataSize = 0 } = parts[0]?.placed ?? {}
    if (!parts[0]?.placed) throw new BadStructure('file table', at, 'its first record has no data')
    const known = () => parts.reduce((sum, part) => sum + clustersOf(part.placed?.runs ?? []), 0)
    const take = () => {
      this.mft = this.streamOf(parts, Math.min(dataSize, known() * this.geometry.clusterSize))
    }
    take()
    const list = await this.attributeList(first)
    const entries = list ? listEntries(list).filter((e) => e.type === ATTRIBUTE_TYPES.data && e.name === '') : []
    for (const { record, id } of entries.sort((a, b) => a.lowestVcn - b.lowestVcn)) {
      const number = recordOf(record)
      if (number === RECORDS.mft) continue
      const part = (await this.record(number)).attributes.find((a) => isData(a) && a.id === id)
      if (!part) throw new BadStructure('file table', at, `record ${number} lacks the part of it that it should hold`)
      parts.push(part)
      take()
    }
    if (this.mft.size < dataSize) throw new BadStructure('file table', at, 'some of its runs are named nowhere')
  }

  get recordCount(): number {
    return Math.floor(this.mft.size / this.geometry.recordSize)
  }

  /** Byte offset on the volume of a record. */
  recordOffset(number: number): number {
    const vcnOffset = number * this.geometry.recordSize
    return this.locate(this.mft.runs, vcnOffset)
  }

  /** One record of the file table. Throws BadStructure when it is damaged or not in use. */
  async record(number: number): Promise<FileRecord> {
    if (!Number.isInteger(number) || number < 0 || number >= this.recordCount) {
      throw new BadStructure('file record', 0, `number ${number} is beyond the ${this.recordCount} of the table`)
    }
    const bytes = await this.mft.read(number * this.geometry.recordSize, this.geometry.recordSize)
    const parsed = this.parseRecord(number, bytes, this.recordOffset(number))
    if ((parsed.header.flags & RECORD_IN_USE) === 0) {
      throw new BadStructure('file record', this.recordOffset(number), `number ${number} is not in use`)
    }
    return parsed
  }

  /** Runs of the file table itself. */
  get tableRuns(): readonly Run[] {
    return this.mft.runs
  }

  /** The header of a record, in use or not; undefined where none was ever written. */
  async recordHeader(number: number): Promise<ReturnType<typeof FILE_RECORD.read> | undefined> {
    const bytes = await this.mft.read(number * this.geometry.recordSize, FILE_RECORD.size)
    const header = FILE_RECORD.read(bytes)
    return header.magic === 'FILE' ? header : undefined
  }

  /** All records in use, in order, read a mebibyte at a time. Throws BadStructure at one that is damaged. */
  async *usedRecords(): AsyncGenerator<FileRecord> {
    const { recordSize } = this.geometry
    const perPiece = Math.max(1, Math.floor((1024 * 1024) / recordSize))
    for (let first = 0; first < this.recordCount; first += perPiece) {
      const count = Math.min(perPiece, this.recordCount - first)
      const bytes = await this.mft.read(first * recordSize, count * recordSize)
      for (let i = 0; i < count; i++) {
        const record = bytes.slice(i * recordSize, (i + 1) * recordSize)
        const { magic, flags } = FILE_RECORD.read(record)
        // A record that was never written is not in use, whatever stands in it.
        if (magic !== 'BAAD' && (magic !== 'FILE' || (flags & RECORD_IN_USE) === 0)) continue
        yield this.parseRecord(first + i, record, this.recordOffset(first + i))
      }
    }
  }

  /** The runs of a placed attribute that does not stand in one of the volume's records. */
  runsOf(raw: Uint8Array): readonly Run[] {
    return this.parseAttribute(0, raw, 0, raw.length, 0).placed?.runs ?? []
  }

  /** The bytes of a file's attribute list; undefined where it has none. */
  async attributeList(record: FileRecord): Promise<Uint8Array | undefined> {
    const list = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.attributeList)
    if (!list) return undefined
    const size = list.value?.length ?? list.placed!.dataSize
    if (size > MOST_LIST_BYTES) throw new BadStructure('attribute list', list.at, `it is ${size} bytes long`)
    return list.value ?? (await this.streamOf([list], size).read(0, size))
  }

  /** All attributes of a file, those in its extension records included. */
  async attributes(record: FileRecord): Promise<readonly Attribute[]> {
    const bytes = await this.attributeList(record)
    if (!bytes) return record.attributes
    const all: Attribute[] = []
    const records = new Map<number, FileRecord>([[record.number, record]])
    for (const entry of listEntries(bytes)) {
      const number = recordOf(entry.record)
      let holder = records.get(number)
      if (!holder) records.set(number, (holder = await this.record(number)))
      const found = holder.attributes.find((a) => a.type === entry.type && a.id === entry.id)
      if (!found) throw new BadStructure('attribute list', entry.at, `record ${number} lacks the attribute it names`)
      all.push(found)
    }
    return all
  }

  /** The stream of that type and name, or undefined. Throws NotSupported for compressed and encrypted ones. */
  async stream(record: FileRecord, type: number, name = ''): Promise<Stream | undefined> {
    const parts = (await this.attributes(record)).filter((a) => a.type === type && a.name === name)
    if (parts.length === 0) return undefined
    const value = parts[0].value
    if (value) {
      const part = (offset: number, length: number) => value.slice(offset, offset + length)
      return {
        size: value.length,
        runs: [],
        read: async (offset, length) => part(offset, length),
        fill: async (offset, into) => into.set(part(offset, into.length)),
      }
    }
    if (type === ATTRIBUTE_TYPES.data && name === '' && (await this.isCompacted(record))) {
      throw new NotSupported('The system has compacted this file into another stream, which is not read here.')
    }
    if (parts[0].flags & ATTRIBUTE_ENCRYPTED) throw new NotSupported('This file is encrypted by its system.')
    parts.sort((a, b) => a.placed!.lowestVcn - b.placed!.lowestVcn)
    const plain = this.streamOf(parts, parts[0].placed!.dataSize)
    const { compressionUnit, initializedSize } = parts[0].placed!
    if ((parts[0].flags & ATTRIBUTE_COMPRESSED) === 0 || compressionUnit === 0) return plain
    return this.unpacked(plain, compressionUnit, initializedSize)
  }

  /** A compressed stream: each unit of clusters is zeros, as it is, or packed when it has a hole at its end. */
  private unpacked(packed: Stream, unitShift: number, initialized: number): Stream {
    const { clusterSize } = this.geometry
    const unitClusters = 2 ** unitShift
    const unitBytes = unitClusters * clusterSize
    if (unitShift > 8 || unitBytes > 16 * 1024 * 1024) {
      throw new BadStructure('file record', 0, `a compression unit of 2^${unitShift} clusters is too large`)
    }
    const size = packed.size
    const read = async (offset: number, length: number): Promise<Uint8Array> => {
      const end = Math.min(offset + length, size)
      const out = allocate(end - offset)
      for (let unit = Math.floor(offset / unitBytes); unit * unitBytes < end; unit++) {
        const start = unit * unitBytes
        if (start >= initialized) break
        const pieces = clipRuns(packed.runs, unit * unitClusters, unitClusters)
        const stored = pieces.filter((run) => run.lcn !== null)
        if (stored.length === 0) continue
        const raw = new Uint8Array(stored.reduce((sum, run) => sum + run.length, 0) * clusterSize)
        let at = 0
        for (const { lcn, length: clusters } of stored) {
          raw.set(await readBytes(this.device, lcn! * clusterSize, clusters * clusterSize), at)
          at += clusters * clusterSize
        }
        let whole = raw
        if (raw.length < unitBytes) unpackUnit(raw, (whole = new Uint8Array(unitBytes)))
        const from = Math.max(offset, start)
        const to = Math.min(end, start + unitBytes, initialized)
        if (from < to) out.set(whole.subarray(from - start, to - start), from - offset)
      }
      return out
    }
    return { size, runs: packed.runs, read, fill: async (offset, into) => into.set(await read(offset, into.length)) }
  }

  /** True for a file whose content lies packed in a stream beside it, and whose own stream is a hole. */
  private async isCompacted(record: FileRecord): Promise<boolean> {
    const point = (await this.attributes(record)).find((a) => a.type === ATTRIBUTE_TYPES.reparsePoint)
    return (
      point?.value !== undefined && point.value.length >= 4 && viewOf(point.value).getUint32(0, true) === COMPACTED_TAG
    )
  }

  private streamOf(parts: readonly Attribute[], size: number): Stream {
    const runs: Run[] = []
    let vcn = 0
    for (const { placed, at } of parts) {
      if (!placed || placed.lowestVcn !== vcn) {
        throw new BadStructure('file record', at, 'the parts of a stream do not follow each other')
      }
      runs.push(...placed.runs)
      vcn += placed.runs.reduce((sum, run) => sum + run.length, 0)
    }
    if (size > vcn * this.geometry.clusterSize) {
      throw new BadStructure('file record', parts[0].at, `a stream of ${size} bytes has ${vcn} clusters`)
    }
    const initialized = Math.min(size, parts[0].placed!.initializedSize)
    const fill = (offset: number, into: Uint8Array) => this.fillFromRuns(runs, initialized, offset, into)
    const read = async (offset: number, length: number): Promise<Uint8Array> => {
      const out = allocate(Math.min(offset + length, size) - offset)
      await fill(offset, out)
      return out
    }
    return { size, runs, read, fill }
  }

  private async fillFromRuns(
    runs: readonly Run[],
    initialized: number,
    offset: number,
    into: Uint8Array,
  ): Promise<void> {
    const { clusterSize } = this.geometry
    const end = offset + into.length
    let start = 0
    for (const run of runs) {
      const runEnd = start + run.length * clusterSize
      const from = Math.max(offset, start)
      const to = Math.min(end, runEnd)
      if (from < to) {
        const part = into.subarray(from - offset, to - offset)
        // Holes, and what was never initialised, are zeros whatever the clusters hold.
        const stored = run.lcn === null ? 0 : Math.max(0, Math.min(to, initialized) - from)
        if (stored > 0) {
          await readInto(this.device, run.lcn! * clusterSize + from - start, part.subarray(0, stored))
        }
        part.fill(0, stored)
      }
      start = runEnd
      if (start >= end) break
    }
  }

  /** The byte on the volume where byte `offset` of a stream lies. */
  private locate(runs: readonly Run[], offset: number): number {
    const { clusterSize } = this.geometry
    let start = 0
    for (const run of runs) {
      const length = run.length * clusterSize
      if (offset < start + length && run.lcn !== null) return run.lcn * clusterSize + offset - start
      start += length
    }
    throw new BadStructure('file table', 0, `byte ${offset} of it is nowhere on the volume`)
  }

  private parseRecord(number: number, bytes: Uint8Array, offset: number): FileRecord {
    const header = FILE_RECORD.read(bytes)
    const bad = (why: string) => new BadStructure(`file record ${number}`, offset, why)
    if (header.magic !== 'FILE') throw bad('it does not carry the mark of a record')
    removeFixups(bytes, offset, `file record ${number}`)
    if (
      header.bytesInUse > bytes.length ||
      header.attributesOffset < 42 ||
      header.attributesOffset > header.bytesInUse
    ) {
      throw bad('its own lengths contradict each other')
    }
    const attributes: Attribute[] = []
    let at = header.attributesOffset
    for (;;) {
      if (at + 4 > header.bytesInUse) throw bad('its attributes have no end')
      if (viewOf(bytes).getUint32(at, true) === ATTRIBUTE_TYPES.end) break
      const attribute = this.parseAttribute(number, bytes, at, header.bytesInUse, offset)
      attributes.push(attribute)
      at += attribute.length
      if (attributes.length > MAX_ATTRIBUTES) throw bad('it has more attributes than fit')
    }
    return { number, bytes, header, attributes }
  }

  private parseAttribute(record: number, bytes: Uint8Array, at: number, end: number, offset: number): Attribute {
    const head = ATTRIBUTE.read(bytes, at)
    const bad = (why: string) => new BadStructure(`file record ${record}`, offset + at, why)
    if (head.length < 24 || head.length % 8 !== 0 || at + head.length > end) throw bad('an attribute is longer than it')
    if (head.nameOffset + head.nameLength * 2 > head.length) throw bad('the name of an attribute lies outside')
    const name = utf16ToString(bytes, at + head.nameOffset, head.nameLength)
    const common = { record, at, type: head.type, name, flags: head.flags, id: head.id, length: head.length }
    if (!head.nonResident) {
      const { valueOffset, valueLength } = RESIDENT.read(bytes, at)
      if (valueOffset + valueLength > head.length) throw bad('the value of an attribute lies outside')
      return { ...common, value: bytes.slice(at + valueOffset, at + valueOffset + valueLength) }
    }
    if (head.length < NON_RESIDENT.size) throw bad('an attribute is too short for its placement')
    const placed = NON_RESIDENT.read(bytes, at)
    // An empty stream says so with a highest cluster of -1.
    const highest = Number(BigInt.asIntN(64, placed.highestVcn))
    const clusters = highest - placed.lowestVcn + 1
    if (!Number.isSafeInteger(clusters) || clusters < 0 || placed.runsOffset > head.length) {
      throw bad('the placement of an attribute contradicts itself')
    }
    const runBytes = bytes.subarray(at + placed.runsOffset, at + head.length)
    const runs = decodeRuns(runBytes, this.geometry.totalClusters, clusters, offset + at + placed.runsOffset)
    const { lowestVcn, allocatedSize, dataSize, initializedSize, compressionUnit } = placed
    return { ...common, placed: { lowestVcn, runs, allocatedSize, dataSize, initializedSize, compressionUnit } }
  }
}

function powerOfTwo(value: number): boolean {
  return value > 0 && Number.isInteger(Math.log2(value))
}
