import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { concatBytes } from '../../bytes/concat'
import { stringToUtf16, utf16ToString, viewOf } from '../../bytes/struct'
import { BadStructure, CoreError, NotSupported } from '../../errors'
import { bitRunsOf, setBits } from '../bitmap'
import { expectFileName } from '../file-name'
import { FreeSpace, gapsOf } from '../free-space'
import type { FileKeeper } from '../keeper'
import { expectLabel } from '../label-rule'
import {
  BITMAP_ENTRY,
  END_OF_CHAIN,
  ENTRY_BITMAP,
  ENTRY_END,
  ENTRY_FILE,
  ENTRY_LABEL,
  ENTRY_NAME,
  ENTRY_STREAM,
  ENTRY_UP_CASE,
  EXFAT_BOOT,
  FILE_ENTRY,
  FIRST_CLUSTER,
  FLAG_DIRTY,
  MAX_DIRECTORY_BYTES,
  STREAM_CONTIGUOUS,
  STREAM_ENTRY,
} from './layout'

/** Files in the root directory of an exFAT volume. */
export const exfatFiles: FileKeeper = {
  async make(volume, name, content, time) {
    const writer = await ExfatWriter.open(volume)
    if (writer.find(name)) throw new CoreError(`${name} is on the volume already.`)
    await writer.make(name, content, time)
    await writer.done()
  },
  async settle(volume, from, to, bytes, time) {
    const writer = await ExfatWriter.open(volume)
    const entry = writer.fileOf(from)
    const other = writer.find(to)
    if (other && other.at !== entry.at) throw new CoreError(`${to} is on the volume already.`)
    await writer.settle(entry, to, bytes, time)
    await writer.done()
  },
  async remove(volume, name) {
    const writer = await ExfatWriter.open(volume)
    await writer.remove(writer.fileOf(name))
    await writer.done()
  },
}

const ENTRY = 32
const ATTRIBUTE_ARCHIVE = 0x20
/** Section 6.2.1.4: an entry without this is free. */
const IN_USE = 0x80
/** Section 7.6.2.1: the stream has clusters, or may have. */
const STREAM_POSSIBLE = 1
const NAME_UNITS = 15
/** Section 7.2.5: a table that stands for all 65,536 units is no longer than this. */
const MOST_UP_CASE_BYTES = 128 * 1024
/** Table entries that are written at once. */
const ENTRIES_AT_ONCE = 256 * 1024

/** A set of directory entries of one file. */
interface EntrySet {
  readonly name: string
  /** Where it begins in the directory, and how many entries it has. */
  readonly at: number
  readonly count: number
  readonly isDirectory: boolean
  readonly firstCluster: number
  readonly sizeBytes: number
  readonly contiguous: boolean
}

interface Run {
  readonly first: number
  readonly length: number
}

/** Changes of one volume; its bitmap and its root directory are held until `done`. */
export class ExfatWriter {
  private directory!: Uint8Array
  private directoryClusters!: number[]
  private bits!: Uint8Array
  private bitmapClusters!: number[]
  private upCase!: Uint16Array

  private constructor(
    private readonly device: BlockDevice,
    private readonly boot: ReturnType<typeof EXFAT_BOOT.read>,
    private readonly sectorSize: number,
    private readonly clusterSize: number,
  ) {}

  static async open(device: BlockDevice): Promise<ExfatWriter> {
    const boot = EXFAT_BOOT.read(await readBytes(device, 0, 512))
    if (boot.flags & FLAG_DIRTY)
      throw new CoreError('The volume was not closed cleanly, so it is not written to before a file-system check.')
    if (boot.fatCount !== 1) throw new NotSupported('This exFAT volume keeps two tables and is not written to here.')
    const sectorSize = 2 ** boot.sectorShift
    const writer = new ExfatWriter(device, boot, sectorSize, sectorSize * 2 ** boot.clusterShift)
    await writer.load()
    return writer
  }

  find(name: string): EntrySet | undefined {
    const wanted = this.upper(name)
    return this.sets().find((set) => this.upper(set.name) === wanted)
  }

  fileOf(name: string): EntrySet {
    const found = this.find(name)
    if (!found || found.isDirectory) throw new CoreError(`There is no file ${name} on the volume.`)
    return found
  }

  async make(name: string, content: Uint8Array | number, time: number): Promise<void> {
    const bytes = typeof content === 'number' ? content : content.length
    const runs = this.take(Math.ceil(bytes / this.clusterSize))
    if (typeof content !== 'number') await this.writeContent(runs, content)
    const contiguous = runs.length <= 1
    if (!contiguous) await this.chainRuns(runs)
    await this.enter(name, { firstCluster: runs[0]?.first ?? 0, bytes, contiguous }, time)
  }

  /** Gives the volume another label: section 7.3 of the specification. */
  async relabel(label: string): Promise<void> {
    expectLabel('exfat', label)
    let at = this.labelAt()
    if (at === undefined && label === '') return
    at ??= await this.roomFor(1)
    const entry = new Uint8Array(ENTRY)
    // Of no characters it says that there is no label; readers look for the entry all the same.
    entry[0] = ENTRY_LABEL
    entry[1] = label.length
    entry.set(stringToUtf16(label), 2)
    this.directory.set(entry, at)
  }

  /** The entry of the label, whether the volume has one now or not. */
  private labelAt(): number | undefined {
    for (let at = 0; at + ENTRY <= this.directory.length && this.directory[at] !== ENTRY_END; at += ENTRY)
      if ((this.directory[at] | IN_USE) === ENTRY_LABEL) return at
    return undefined
  }

  async settle(set: EntrySet, name: string, bytes: number, time: number): Promise<void> {
    const clusters = await this.clustersOf(set)
    const kept = Math.ceil(bytes / this.clusterSize)
    if (kept === 0 || kept > clusters.length)
      throw new CoreError('The file has fewer clusters than it is to have bytes.')
    this.free(clusters.slice(kept))
    if (!set.contiguous) await this.setEntries(clusters[kept - 1], [END_OF_CHAIN])
    this.leave(set)
    await this.enter(name, { firstCluster: set.firstCluster, bytes, contiguous: set.contiguous }, time)
  }

  async remove(set: EntrySet): Promise<void> {
    this.free(await this.clustersOf(set))
    this.leave(set)
  }

  /** Writes the bitmap and the directory. */
  async done(): Promise<void> {
    await this.writeClusters(this.bitmapClusters, this.bits)
    await this.writeClusters(this.directoryClusters, this.directory)
  }

  private async load(): Promise<void> {
    const { boot } = this
    if ((boot.clusterCount + FIRST_CLUSTER) * 4 > boot.fatSectors * this.sectorSize)
      throw new BadStructure('exFAT boot sector', 0, 'its table is too short for its clusters')
    this.directoryClusters = await this.chain(boot.rootCluster, MAX_DIRECTORY_BYTES / this.clusterSize)
    this.directory = await this.readClusters(this.directoryClusters)
    const bitmap = this.entryOf(ENTRY_BITMAP, 'bitmap')
    if (bitmap.length * 8 < boot.clusterCount)
      throw new BadStructure('exFAT bitmap', 0, `it does not cover the ${boot.clusterCount} clusters`)
    this.bitmapClusters = await this.chain(bitmap.firstCluster, Math.ceil(bitmap.length / this.clusterSize))
    this.bits = (await this.readClusters(this.bitmapClusters)).slice(0, bitmap.length)
    this.upCase = await this.readUpCase()
  }

  /** The table of upper-case letters (section 7.2.5.1: runs of letters that stay as they are are left out). */
  private async readUpCase(): Promise<Uint16Array> {
    const { firstCluster, length } = this.entryOf(ENTRY_UP_CASE, 'table of upper-case letters')
    if (length === 0 || length > MOST_UP_CASE_BYTES || length % 2 !== 0)
      throw new BadStructure('exFAT table of upper-case letters', 0, `it would be ${length} bytes`)
    const clusters = await this.chain(firstCluster, Math.ceil(length / this.clusterSize))
    const view = viewOf((await this.readClusters(clusters)).subarray(0, length))
    const table = Uint16Array.from({ length: 65_536 }, (_, unit) => unit)
    for (let at = 0, unit = 0; at + 2 <= length && unit < table.length; at += 2) {
      const value = view.getUint16(at, true)
      if (value === 0xffff && at + 4 <= length) {
        at += 2
        unit += view.getUint16(at, true)
      } else table[unit++] = value
    }
    return table
  }

  private entryOf(type: number, what: string) {
    for (let at = 0; at + ENTRY <= this.directory.length && this.directory[at] !== ENTRY_END; at += ENTRY)
      if (this.directory[at] === type) return BITMAP_ENTRY.read(this.directory, at)
    throw new BadStructure(`exFAT ${what}`, 0, 'the root directory does not name it')
  }

  private upper(name: string): string {
    return String.fromCharCode(...Array.from({ length: name.length }, (_, i) => this.upCase[name.charCodeAt(i)]))
  }

  private sets(): EntrySet[] {
    const found: EntrySet[] = []
    const bytes = this.directory
    for (let at = 0; at + ENTRY <= bytes.length && bytes[at] !== ENTRY_END; at += ENTRY) {
      if (bytes[at] !== ENTRY_FILE) continue
      const { secondaryCount, attributes } = FILE_ENTRY.read(bytes, at)
      const count = secondaryCount + 1
      if (at + count * ENTRY > bytes.length || bytes[at + ENTRY] !== ENTRY_STREAM) continue
      const stream = STREAM_ENTRY.read(bytes, at + ENTRY)
      let name = ''
      for (let i = 2; i < count && bytes[at + i * ENTRY] === ENTRY_NAME; i++)
        name += utf16ToString(bytes, at + i * ENTRY + 2, NAME_UNITS)
      found.push({
        name: name.slice(0, stream.nameLength),
        at,
        count,
        isDirectory: (attributes & 0x10) !== 0,
        firstCluster: stream.firstCluster,
        sizeBytes: stream.length,
        contiguous: (stream.flags & STREAM_CONTIGUOUS) !== 0,
      })
      at += secondaryCount * ENTRY
    }
    return found
  }

  private async clustersOf({ firstCluster, sizeBytes, contiguous }: EntrySet): Promise<number[]> {
    const count = Math.ceil(sizeBytes / this.clusterSize)
    if (count === 0) return []
    if (!contiguous) {
      const clusters = await this.chain(firstCluster, count)
      if (clusters.length < count) throw new BadStructure('exFAT chain', firstCluster, 'it ends before its file')
      return clusters
    }
    if (firstCluster < FIRST_CLUSTER || firstCluster + count > this.boot.clusterCount + FIRST_CLUSTER)
      throw new BadStructure('exFAT chain', firstCluster, 'it leads out of the volume')
    return Array.from({ length: count }, (_, i) => firstCluster + i)
  }

  /** A chain by the table, `most` clusters of it. */
  private async chain(first: number, most: number): Promise<number[]> {
    const clusters: number[] = []
    const limit = this.boot.clusterCount + FIRST_CLUSTER
    let piece: { readonly at: number; readonly view: DataView } | undefined
    for (let cluster = first; cluster !== END_OF_CHAIN && clusters.length < most;) {
      if (cluster < FIRST_CLUSTER || cluster >= limit)
        throw new BadStructure('exFAT chain', first, `it leads to cluster ${cluster}`)
      clusters.push(cluster)
      const at = Math.floor((cluster * 4) / 65_536) * 65_536
      if (piece?.at !== at) {
        const length = Math.min(65_536, this.boot.fatSectors * this.sectorSize - at)
        piece = { at, view: viewOf(await readBytes(this.device, this.boot.fatOffset * this.sectorSize + at, length)) }
      }
      cluster = piece.view.getUint32(cluster * 4 - at, true)
    }
    return clusters
  }

  private take(count: number): Run[] {
    const { clusterCount } = this.boot
    const space = new FreeSpace(gapsOf(bitRunsOf(this.bits, clusterCount), clusterCount))
    const taken = space.take(count)
    if (!taken) throw new CoreError('The volume has too little free room.')
    for (const { offset, length } of taken) setBits(this.bits, offset, length)
    return taken.map(({ offset, length }) => ({ first: offset + FIRST_CLUSTER, length }))
  }

  private free(clusters: readonly number[]): void {
    for (const cluster of clusters) setBits(this.bits, cluster - FIRST_CLUSTER, 1, false)
  }

  private async chainRuns(runs: readonly Run[]): Promise<void> {
    for (const [i, { first, length }] of runs.entries()) {
      const next = runs[i + 1]?.first ?? END_OF_CHAIN
      for (let at = 0; at < length; at += ENTRIES_AT_ONCE) {
        const count = Math.min(ENTRIES_AT_ONCE, length - at)
        const values = Array.from({ length: count }, (_, k) => (at + k + 1 < length ? first + at + k + 1 : next))
        await this.setEntries(first + at, values)
      }
    }
  }

  private async setEntries(cluster: number, values: readonly number[]): Promise<void> {
    const bytes = new Uint8Array(values.length * 4)
    const view = viewOf(bytes)
    values.forEach((value, i) => view.setUint32(i * 4, value, true))
    await writeBytes(this.device, this.boot.fatOffset * this.sectorSize + cluster * 4, bytes)
  }

  /** Frees the entries of a set (section 6.2.1.4). */
  private leave({ at, count }: EntrySet): void {
    for (let i = 0; i < count; i++) this.directory[at + i * ENTRY] &= ~IN_USE
  }

  private async enter(
    name: string,
    { firstCluster, bytes, contiguous }: { firstCluster: number; bytes: number; contiguous: boolean },
    time: number,
  ): Promise<void> {
    expectFileName(name)
    const count = 2 + Math.ceil(name.length / NAME_UNITS)
    const set = new Uint8Array(count * ENTRY)
    set[0] = ENTRY_FILE
    const stamp = timestampOf(time)
    const stamps = {
      created: stamp,
      modified: stamp,
      accessed: stamp,
      createdZone: UTC,
      modifiedZone: UTC,
      accessedZone: UTC,
    }
    FILE_ENTRY.write(set, { secondaryCount: count - 1, attributes: ATTRIBUTE_ARCHIVE, ...stamps })
    set[ENTRY] = ENTRY_STREAM
    const hash = nameHash(this.upper(name))
    const flags = STREAM_POSSIBLE | (contiguous && bytes > 0 ? STREAM_CONTIGUOUS : 0)
    const stream = { flags, nameLength: name.length, nameHash: hash, validLength: bytes, firstCluster, length: bytes }
    STREAM_ENTRY.write(set, stream, ENTRY)
    for (let i = 2; i < count; i++) {
      set[i * ENTRY] = ENTRY_NAME
      set.set(stringToUtf16(name.slice((i - 2) * NAME_UNITS, (i - 1) * NAME_UNITS)), i * ENTRY + 2)
    }
    FILE_ENTRY.write(set, { checksum: setChecksum(set) })
    this.directory.set(set, await this.roomFor(count))
  }

  /** Where so many entries are free one behind the other; the directory becomes longer where there are none. */
  private async roomFor(count: number): Promise<number> {
    let run = 0
    let ended = false
    for (let at = 0; at + ENTRY <= this.directory.length; at += ENTRY) {
      ended ||= this.directory[at] === ENTRY_END
      run = ended || (this.directory[at] & IN_USE) === 0 ? run + 1 : 0
      if (run === count) return at - (count - 1) * ENTRY
    }
    const start = this.directory.length - run * ENTRY
    const [{ first }] = this.take(1)
    await this.setEntries(this.directoryClusters.at(-1)!, [first])
    await this.setEntries(first, [END_OF_CHAIN])
    this.directoryClusters.push(first)
    this.directory = concatBytes([this.directory, new Uint8Array(this.clusterSize)])
    return start
  }

  private async writeContent(runs: readonly Run[], content: Uint8Array): Promise<void> {
    const clusters = runs.flatMap(({ first, length }) => Array.from({ length }, (_, i) => first + i))
    await this.writeClusters(clusters, content)
  }

  private async writeClusters(clusters: readonly number[], bytes: Uint8Array): Promise<void> {
    for (const [i, cluster] of clusters.entries()) {
      const piece = new Uint8Array(this.clusterSize)
      piece.set(bytes.subarray(i * this.clusterSize, (i + 1) * this.clusterSize))
      await writeBytes(this.device, this.offsetOf(cluster), piece)
    }
  }

  private async readClusters(clusters: readonly number[]): Promise<Uint8Array> {
    const bytes = new Uint8Array(clusters.length * this.clusterSize)
    for (const [i, cluster] of clusters.entries())
      bytes.set(await readBytes(this.device, this.offsetOf(cluster), this.clusterSize), i * this.clusterSize)
    return bytes
  }

  private offsetOf(cluster: number): number {
    return this.boot.heapOffset * this.sectorSize + (cluster - FIRST_CLUSTER) * this.clusterSize
  }
}

/** Section 7.4.10: the offset is valid, and is none. */
const UTC = 0x80

/** Section 7.4.8: year since 1980, month, day, hour, minute and two seconds. */
function timestampOf(time: number): number {
  const at = new Date(time)
  const date = ((at.getUTCFullYear() - 1980) << 9) | ((at.getUTCMonth() + 1) << 5) | at.getUTCDate()
  const clock = (at.getUTCHours() << 11) | (at.getUTCMinutes() << 5) | (at.getUTCSeconds() >> 1)
  return date * 65_536 + clock
}

/** Section 6.3.3: of a whole set but for the field itself. */
function setChecksum(set: Uint8Array): number {
  let sum = 0
  for (const [i, byte] of set.entries()) {
    if (i === 2 || i === 3) continue
    sum = (((sum & 1) << 15) | (sum >>> 1)) + byte
    sum &= 0xffff
  }
  return sum
}

/** Section 7.6.4: of a name in upper case. */
function nameHash(upper: string): number {
  let hash = 0
  for (const byte of stringToUtf16(upper)) {
    hash = (((hash & 1) << 15) | (hash >>> 1)) + byte
    hash &= 0xffff
  }
  return hash
}
