import type { BlockDevice } from '../../block/device'
import { concatBytes } from '../../bytes/concat'
import { alignUp } from '../../bytes/size'
import { stringToUtf16, utf16ToString, viewOf } from '../../bytes/struct'
import { BadStructure, CoreError, NotSupported } from '../../errors'
import { bitRunsOf, setBits } from '../bitmap'
import { expectFileName } from '../file-name'
import { FreeSpace, gapsOf } from '../free-space'
import { splitPath } from '../path'
import { expectLabel } from '../label-rule'
import { refuseUnclean } from './clean'
import { FileTable, type VolumeEdit } from './file-table'
import { FileTableWriter } from './file-table-writer'
import { readDirectory, vcnUnitOf, walkIndex } from './directory'
import { buildIndex, indexEntry, type IndexItem } from './index-tree'
import {
  ATTRIBUTE_TYPES,
  FILE_NAME,
  INDEX_ENTRY,
  INDEX_ROOT,
  RECORD_IN_USE,
  RECORD_IS_DIRECTORY,
  RECORDS,
  recordOf,
  STANDARD_INFORMATION,
} from './layout'
import {
  buildRecord,
  fileNameValue,
  freeId,
  inserted,
  nonResidentAttribute,
  rawAttribute,
  referenceTo,
  residentAttribute,
  typeOf,
  withAttributes,
  withRuns,
} from './records'
import { clipRuns, clustersOf, joinRuns, type Run, writeRuns } from './runs'
import { type FileRecord, NtfsVolume } from './volume'

/** Values up to this length lie in the record itself. */
const RESIDENT_LIMIT = 400
/** Bytes of entries that a directory's root may hold, tried in this order until its record takes them. */
const ROOT_ROOMS = [400, 200, INDEX_ENTRY.size + 8]

/**
 * Gives a file of an NTFS volume this content, in place of what it held, or makes it in a directory that is there, or in
 * one that is made with it where `directories` says so. The map of clusters, the file table with its mirror and the
 * directory's index follow. `time` is in 100 ns steps since 1601. Rejects with CoreError where the volume is not clean,
 * has no room or keeps the file in a way that is not changed here; nothing is written then but what a caller's overlay
 * forgets.
 */
export async function putNtfsFile(
  device: BlockDevice,
  path: string,
  content: Uint8Array,
  time: bigint,
  { directories = false }: { readonly directories?: boolean } = {},
): Promise<void> {
  const writer = await NtfsWriter.open(device, time)
  const names = splitPath(path)
  const name = names.pop()
  if (name === undefined) throw new CoreError('The root directory is no file.')
  let directory: number = RECORDS.root
  for (const part of names) {
    const there = await writer.find(directory, part)
    if (!there && directories) directory = await writer.makeDirectory(directory, part)
    else if (there?.isDirectory) directory = there.record
    else throw new CoreError(`${path} cannot be made: there is no directory ${part}.`)
  }
  const there = await writer.find(directory, name)
  if (there?.isDirectory) throw new CoreError(`${path} is a directory, not a file.`)
  if (there) await writer.replace(directory, there.record, content)
  else await writer.make(directory, name, content)
  await writer.done()
}

/** Changes of one volume; its map of clusters is held until `done`. */
export class NtfsWriter {
  private bits!: Uint8Array
  private space!: FreeSpace

  private constructor(
    private readonly device: BlockDevice,
    private readonly volume: NtfsVolume,
    private readonly table: FileTableWriter,
    private readonly time: bigint,
  ) {}

  static async open(device: BlockDevice, time: bigint): Promise<NtfsWriter> {
    const volume = await NtfsVolume.open(device)
    await refuseUnclean(volume, 'is not written to')
    const writer = new NtfsWriter(device, volume, await FileTableWriter.of(volume), time)
    const { totalClusters } = volume.geometry
    const map = await volume.stream(await volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data)
    if (!map || map.size * 8 < totalClusters) throw new BadStructure('cluster bitmap', 0, 'it is too short')
    writer.bits = await map.read(0, map.size)
    writer.space = new FreeSpace(gapsOf(bitRunsOf(writer.bits, totalClusters), totalClusters))
    return writer
  }

  async find(directory: number, name: string) {
    const upper = name.toUpperCase()
    const names = await readDirectory(this.volume, await this.volume.record(directory))
    return names.find((n) => n.name.toUpperCase() === upper)
  }

  async replace(directory: number, number: number, content: Uint8Array): Promise<void> {
    const record = await this.wholeRecord(number)
    const raws = record.attributes.map((a) => rawAttribute(record, a))
    const index = record.attributes.findIndex((a) => a.type === ATTRIBUTE_TYPES.data && a.name === '')
    const old = record.attributes[index]
    if (!old || old.flags !== 0)
      throw new NotSupported('This file is compressed, sparse or encrypted by its system and is not changed here.')
    const { raw, allocatedSize } = await this.dataAttribute(content, old.id)
    const sizes = { allocatedSize, dataSize: content.length }
    const changed = raws.map((a, i) => {
      if (i === index) return raw
      return typeOf(a) === ATTRIBUTE_TYPES.fileName ? withSizes(record, i, sizes) : a
    })
    const bytes = withAttributes(record, changed)
    if (!bytes) throw new NotSupported('The file’s record has no room for where the new content lies.')
    await this.table.write(number, bytes)
    for (const { lcn, length } of old.placed?.runs ?? []) if (lcn !== null) setBits(this.bits, lcn, length, false)
    await this.rewriteIndex(directory, (items) =>
      items.map((item) => {
        if (recordOfItem(item) !== number) return item
        const sized = item.bytes.slice()
        FILE_NAME.write(sized, sizes, INDEX_ENTRY.size)
        return { bytes: sized }
      }),
    )
  }

  /** Gives the volume another label: the name attribute of its own record. */
  async relabel(label: string): Promise<void> {
    expectLabel('ntfs', label)
    const record = await this.wholeRecord(RECORDS.volume)
    const { volumeName } = ATTRIBUTE_TYPES
    const old = record.attributes.find((a) => a.type === volumeName)
    const id = old?.id ?? Math.max(...record.attributes.map((a) => a.id)) + 1
    const raws = record.attributes.filter((a) => a !== old).map((a) => rawAttribute(record, a))
    // Attributes stand in the order of their types.
    const at = raws.findIndex((raw) => typeOf(raw) > volumeName)
    raws.splice(at < 0 ? raws.length : at, 0, residentAttribute({ type: volumeName, id }, stringToUtf16(label)))
    const bytes = withAttributes(record, raws)
    if (!bytes) throw new NotSupported('The volume’s own record has no room for that label.')
    await this.table.write(RECORDS.volume, bytes)
  }

  /** Makes a file of this content, or one with clusters for so many bytes that hold what they held. */
  async make(directory: number, name: string, content: Uint8Array | number): Promise<void> {
    const { raw, allocatedSize } = await this.dataAttribute(content, 2)
    const dataSize = typeof content === 'number' ? content : content.length
    await this.makeRecord(directory, { name, allocatedSize, dataSize, isDirectory: false }, raw)
  }

  /** Makes a directory with nothing in it; returns the number of its record. */
  async makeDirectory(directory: number, name: string): Promise<number> {
    const root = (await this.wholeRecord(directory)).attributes.find(
      (a) => a.type === ATTRIBUTE_TYPES.indexRoot && a.name === '$I30',
    )
    if (!root?.value) throw new NotSupported(`${name} cannot be made in what is no directory.`)
    const { rootNode } = buildIndex([], 0, 1, ROOT_ROOMS[0])
    // Its index is kept as that of the directory that it is made in.
    const value = concatBytes([root.value.subarray(0, INDEX_ROOT.size), rootNode])
    const index = residentAttribute({ type: ATTRIBUTE_TYPES.indexRoot, name: '$I30', id: 2 }, value)
    return this.makeRecord(directory, { name, allocatedSize: 0, dataSize: 0, isDirectory: true }, index)
  }

  private async makeRecord(
    directory: number,
    named: { name: string; allocatedSize: number; dataSize: number; isDirectory: boolean },
    last: Uint8Array,
  ): Promise<number> {
    expectFileName(named.name)
    const table = await FileTable.open(this.edit())
    const { number, sequence } = await table.takeRecord()
    await table.save()
    const parent = await this.wholeRecord(directory)
    const key = fileNameValue({ parent: referenceTo(parent), time: this.time, ...named })
    const attributes = [
      residentAttribute({ type: ATTRIBUTE_TYPES.standardInformation, id: 0 }, this.standardOf(parent)),
      residentAttribute({ type: ATTRIBUTE_TYPES.fileName, id: 1 }, key, true),
      ...(rightsOf(parent) === undefined
        ? [residentAttribute({ type: ATTRIBUTE_TYPES.securityDescriptor, id: 3 }, FOR_EVERYONE)]
        : []),
      last,
    ]
    const flags = RECORD_IN_USE | (named.isDirectory ? RECORD_IS_DIRECTORY : 0)
    const values = { number, sequence, links: 1, flags, nextId: 4 }
    await this.table.write(number, buildRecord(this.volume.geometry.recordSize, values, attributes))
    await this.enter(directory, indexEntry((BigInt(sequence) << 48n) | BigInt(number), key))
    return number
  }

  /** Gives a file another name and length; the clusters behind that are free again. */
  async settle(directory: number, number: number, name: string, bytes: number): Promise<void> {
    expectFileName(name)
    const record = await this.wholeRecord(number)
    const data = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data && a.name === '')
    const names = record.attributes.filter((a) => a.type === ATTRIBUTE_TYPES.fileName)
    if (!data?.placed || data.flags !== 0 || names.length !== 1 || bytes === 0)
      throw new NotSupported('This file is kept in a way that is not changed here.')
    const { clusterSize } = this.volume.geometry
    const clusters = Math.ceil(bytes / clusterSize)
    const all = clustersOf(data.placed.runs)
    if (clusters > all) throw new CoreError('The file has fewer clusters than it is to have bytes.')
    const kept = clipRuns(data.placed.runs, 0, clusters)
    for (const { lcn, length } of clipRuns(data.placed.runs, clusters, all - clusters))
      if (lcn !== null) setBits(this.bits, lcn, length, false)
    const sizes = { allocatedSize: clusters * clusterSize, dataSize: bytes }
    const parent = referenceTo(await this.wholeRecord(directory))
    const key = fileNameValue({ parent, name, ...sizes, isDirectory: false, time: this.time })
    const changed = withAttributes(
      record,
      record.attributes.map((a) => {
        if (a === data) return withRuns(rawAttribute(record, a), kept, { ...sizes, initializedSize: bytes })
        return a === names[0]
          ? residentAttribute({ type: ATTRIBUTE_TYPES.fileName, id: a.id }, key, true)
          : rawAttribute(record, a)
      }),
    )
    if (!changed) throw new NotSupported('The file’s record has no room for its new name.')
    await this.table.write(number, changed)
    await this.enter(directory, indexEntry(referenceTo(record), key))
  }

  /** Takes a file away: its names in the directory, its record, its clusters. */
  async remove(directory: number, number: number): Promise<void> {
    const record = await this.wholeRecord(number)
    for (const { placed } of record.attributes)
      for (const { lcn, length } of placed?.runs ?? []) if (lcn !== null) setBits(this.bits, lcn, length, false)
    await this.rewriteIndex(directory, (items) => items.filter((item) => recordOfItem(item) !== number))
    const table = await FileTable.open(this.edit())
    await table.release(number)
    await table.save()
  }

  /** Puts an entry where the order of the directory wants it, in place of those that its file had. */
  private async enter(directory: number, item: IndexItem): Promise<void> {
    const order = await this.collation()
    await this.rewriteIndex(directory, (items) => {
      const others = items.filter((other) => recordOfItem(other) !== recordOfItem(item))
      const at = others.findIndex((other) => order(other, item) > 0)
      return at < 0 ? [...others, item] : [...others.slice(0, at), item, ...others.slice(at)]
    })
  }

  /** Writes the map of clusters. */
  async done(): Promise<void> {
    const map = (await this.volume.stream(await this.volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data))!
    await this.writeRuns(map.runs, this.bits)
  }

  /** A record that holds all of its file's attributes. */
  private async wholeRecord(number: number): Promise<FileRecord> {
    const record = await this.volume.record(number)
    if (record.attributes.some((a) => a.type === ATTRIBUTE_TYPES.attributeList))
      throw new NotSupported('This file or its directory lies in too many pieces to be changed here.')
    return record
  }

  private async dataAttribute(
    content: Uint8Array | number,
    id: number,
  ): Promise<{ raw: Uint8Array; allocatedSize: number }> {
    const head = { type: ATTRIBUTE_TYPES.data, id }
    if (typeof content !== 'number' && content.length <= RESIDENT_LIMIT)
      return { raw: residentAttribute(head, content), allocatedSize: alignUp(content.length, 8) }
    const dataSize = typeof content === 'number' ? content : content.length
    const runs = this.take(dataSize)
    if (typeof content !== 'number') await this.writeRuns(runs, content)
    const allocatedSize = alignUp(dataSize, this.volume.geometry.clusterSize)
    const raw = nonResidentAttribute(head, { runs, allocatedSize, dataSize, initializedSize: dataSize })
    if (raw.length > this.volume.geometry.recordSize / 2)
      throw new NotSupported('The free room of the volume lies in too many pieces for a file of this length.')
    return { raw, allocatedSize }
  }

  /** Free clusters for so many bytes. */
  private take(bytes: number): Run[] {
    const taken = this.space.take(Math.ceil(bytes / this.volume.geometry.clusterSize))
    if (!taken) throw new CoreError('The volume has too little free room.')
    for (const { offset, length } of taken) setBits(this.bits, offset, length)
    return taken.map(({ offset, length }) => ({ lcn: offset, length }))
  }

  private edit(): VolumeEdit {
    return {
      volume: this.volume,
      table: this.table,
      attributesOf: (record) => record.attributes.map((a) => rawAttribute(record, a)),
      mapRuns: (runs) => [...runs],
      takeClusters: (count) => this.take(count * this.volume.geometry.clusterSize),
      releaseClusters: (runs) => {
        for (const { lcn, length } of runs) if (lcn !== null) setBits(this.bits, lcn, length, false)
      },
    }
  }

  /** Fills clusters from their first byte on; what is left of the last one becomes zeros. */
  private async writeRuns(runs: readonly Run[], bytes: Uint8Array): Promise<void> {
    const { clusterSize } = this.volume.geometry
    const padded = new Uint8Array(alignUp(bytes.length, clusterSize))
    padded.set(bytes)
    await writeRuns(this.device, runs, clusterSize, padded)
  }

  /** Times of now, and the rights that the directory has; those of a volume that keeps them in each file stand beside. */
  private standardOf(directory: FileRecord): Uint8Array {
    const value = new Uint8Array(STANDARD_INFORMATION.size)
    STANDARD_INFORMATION.write(value, {
      created: this.time,
      modified: this.time,
      recordChanged: this.time,
      accessed: this.time,
      fileAttributes: 0x20,
      securityId: rightsOf(directory) ?? 0,
    })
    return value
  }

  /** Builds a directory's index anew from its entries, in the order that they come back in. */
  private async rewriteIndex(directory: number, change: (items: IndexItem[]) => IndexItem[]): Promise<void> {
    const record = await this.wholeRecord(directory)
    const items: IndexItem[] = []
    const blockSize = await walkIndex(this.volume, record, (node, at, { keyLength }) => {
      // A child's place behind the key is not taken along.
      items.push({ bytes: node.slice(at, at + alignUp(INDEX_ENTRY.size + keyLength, 8)) })
    })
    const wanted = change(items)
    const { clusterSize } = this.volume.geometry
    const perBlock = blockSize / vcnUnitOf(blockSize, clusterSize)
    for (const room of ROOT_ROOMS) {
      const tree = buildIndex(wanted, blockSize, perBlock, room)
      const attributes = await this.indexAttributes(record, tree.rootNode, tree.blocks, blockSize)
      const bytes = withAttributes(record, attributes.raws)
      if (!bytes) continue
      await this.writeRuns(attributes.runs, concatBytes(tree.blocks))
      return this.table.write(directory, bytes)
    }
    throw new NotSupported('The directory’s record has no room for its index.')
  }

  private async indexAttributes(
    record: FileRecord,
    rootNode: Uint8Array,
    blocks: readonly Uint8Array[],
    blockSize: number,
  ): Promise<{ raws: Uint8Array[]; runs: readonly Run[] }> {
    const { clusterSize } = this.volume.geometry
    const own = (type: number) => record.attributes.find((a) => a.type === type && a.name === '$I30')
    const root = own(ATTRIBUTE_TYPES.indexRoot)!
    const allocation = own(ATTRIBUTE_TYPES.indexAllocation)
    const map = own(ATTRIBUTE_TYPES.bitmap)
    if (map?.placed) throw new NotSupported('This directory is too large to be changed here.')
    const value = new Uint8Array(INDEX_ROOT.size + rootNode.length)
    value.set(root.value!.subarray(0, INDEX_ROOT.size))
    value.set(rootNode, INDEX_ROOT.size)
    const head = (type: number, id: number) => ({ type, name: '$I30', id })
    let raws = record.attributes
      .filter((a) => a !== root && a !== allocation && a !== map)
      .map((a) => rawAttribute(record, a))
    raws = inserted(raws, residentAttribute(head(ATTRIBUTE_TYPES.indexRoot, root.id), value))
    const bytes = blocks.length * blockSize
    if (bytes === 0 && !allocation) return { raws, runs: [] }
    const have = allocation?.placed?.runs ?? []
    const haveBytes = have.reduce((sum, run) => sum + run.length, 0) * clusterSize
    const runs = bytes > haveBytes ? joinRuns([...have, ...this.take(bytes - haveBytes)]) : have
    const allocatedSize = runs.reduce((sum, run) => sum + run.length, 0) * clusterSize
    const dataSize = Math.max(bytes, allocation?.placed?.dataSize ?? 0)
    const sizes = { allocatedSize, dataSize, initializedSize: dataSize }
    const placed = allocation
      ? withRuns(rawAttribute(record, allocation), runs, sizes)
      : nonResidentAttribute(head(ATTRIBUTE_TYPES.indexAllocation, freeId(raws)), { runs, ...sizes })
    raws = inserted(raws, placed)
    const bits = new Uint8Array(Math.max(map?.value?.length ?? 0, alignUp(Math.ceil(blocks.length / 8), 8)))
    setBits(bits, 0, blocks.length)
    return {
      raws: inserted(raws, residentAttribute(head(ATTRIBUTE_TYPES.bitmap, map?.id ?? freeId(raws)), bits)),
      runs,
    }
  }

  /** Compares names as this volume orders them, by its own table of upper-case letters. */
  private async collation(): Promise<(a: IndexItem, b: IndexItem) => number> {
    const table = await this.volume.stream(await this.volume.record(RECORDS.upCase), ATTRIBUTE_TYPES.data)
    if (!table || table.size < 2 * 65536) throw new BadStructure('table of upper-case letters', 0, 'it is too short')
    const letters = viewOf(await table.read(0, 2 * 65536))
    const upper = ({ bytes }: IndexItem) => {
      const { nameLength } = FILE_NAME.read(bytes, INDEX_ENTRY.size)
      const name = utf16ToString(bytes, INDEX_ENTRY.size + FILE_NAME.size, nameLength)
      return Array.from({ length: nameLength }, (_, i) => letters.getUint16(name.charCodeAt(i) * 2, true))
    }
    return (a, b) => {
      const [x, y] = [upper(a), upper(b)]
      const at = x.findIndex((letter, i) => letter !== y[i])
      return at < 0 ? x.length - y.length : x[at] - (y[at] ?? -1)
    }
  }
}

/** The number of a file's rights in the volume's list of them; undefined where its record has them itself. */
function rightsOf(record: FileRecord): number | undefined {
  const value = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.standardInformation)?.value
  const listed = value && value.length >= STANDARD_INFORMATION.size ? STANDARD_INFORMATION.read(value).securityId : 0
  return listed === 0 ? undefined : listed
}

/** A security descriptor ([MS-DTYP] 2.4.6) by which administrators own a file, and everyone may do everything with it. */
const FOR_EVERYONE = Uint8Array.from([
  // Revision, control (its parts follow each other; rights are given), where owner, group, audit and rights stand.
  ...[1, 0, 0x04, 0x80, 20, 0, 0, 0, 36, 0, 0, 0, 0, 0, 0, 0, 52, 0, 0, 0],
  // S-1-5-32-544, twice.
  ...[1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0],
  ...[1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0],
  // One entry: S-1-1-0, all access.
  ...[2, 0, 28, 0, 1, 0, 0, 0],
  ...[0, 0, 20, 0, 0xff, 1, 0x1f, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0],
])

const recordOfItem = ({ bytes }: IndexItem) => recordOf(INDEX_ENTRY.read(bytes).reference)

/** A name of a record with other sizes of its file. */
function withSizes(
  record: FileRecord,
  index: number,
  sizes: { readonly allocatedSize: number; readonly dataSize: number },
): Uint8Array {
  const { id, value } = record.attributes[index]
  const changed = value!.slice()
  FILE_NAME.write(changed, sizes)
  return residentAttribute({ type: ATTRIBUTE_TYPES.fileName, id }, changed, true)
}
