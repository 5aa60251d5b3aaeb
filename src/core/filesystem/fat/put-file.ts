import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { CoreError, NotSupported } from '../../errors'
import { expectFileName } from '../file-name'
import { splitPath } from '../path'
import { expectLabel } from '../label-rule'
import { type FatEntry, parseDirectory } from './directory'
import {
  ATTRIBUTE_ARCHIVE,
  ATTRIBUTE_DIRECTORY,
  ATTRIBUTE_LONG_NAME,
  ATTRIBUTE_VOLUME,
  BOOT_SECTOR,
  BOOT_SECTOR_16,
  CLEAN_BIT,
  END_OF_CHAIN,
  ENTRY_MASK,
  FIRST_CLUSTER,
  INFORMATION_SECTOR,
  LAST_LONG_ENTRY,
  MAX_DIRECTORY_BYTES,
  STATE_DIRTY,
} from './layout'
import { entryRow, nameRows, withPlace } from './rows'
import { FatVolume, readFatGeometry } from './volume'

const ROW = 32
const ATTRIBUTES_AT = 11
const LABEL_CHARACTERS = 11
/** Tables of a volume this size are read whole. */
const MAX_TABLE_BYTES = 32 * 1024 * 1024

/**
 * Gives a file of a FAT16 or FAT32 volume this content, in place of what it held, or makes it, with the directories of
 * its path that are missing. Free clusters are taken in order, every copy of the table and the count of free clusters
 * follow. Rejects with CoreError where the volume is not clean or there is no room; nothing was written then but what
 * a caller's overlay forgets.
 */
export async function putFatFile(device: BlockDevice, path: string, content: Uint8Array): Promise<void> {
  const writer = await FatWriter.open(device)
  const names = splitPath(path)
  let at = writer.root
  for (const name of names.slice(0, -1)) {
    const there = await writer.find(at, name)
    if (there && !there.isDirectory) throw new CoreError(`${name} of ${path} is a file, not a directory.`)
    at = there ? there.firstCluster : await writer.makeDirectory(at, name)
  }
  const name = names.at(-1)!
  const there = await writer.find(at, name)
  if (there?.isDirectory) throw new CoreError(`${path} is a directory, not a file.`)
  if (there) await writer.replaceFile(at, there, content)
  else await writer.makeFile(at, name, content)
  await writer.done()
}

/** Changes of one volume; tables are held until they are written. */
export class FatWriter {
  private readonly table: DataView
  private taken = 0

  private constructor(
    private readonly device: BlockDevice,
    private readonly volume: FatVolume,
    private readonly bytes: Uint8Array,
  ) {
    this.table = viewOf(bytes)
  }

  static async open(device: BlockDevice): Promise<FatWriter> {
    const geometry = await readFatGeometry(device)
    const { bits, fatBytes, fatOffset, stateByte } = geometry
    if (bits === 12) throw new NotSupported('Files are not added to a FAT12 volume.')
    if (fatBytes > MAX_TABLE_BYTES) throw new NotSupported('The tables of this FAT volume are too long to be changed.')
    const volume = new FatVolume(device, geometry)
    if (((await volume.stateEntry()) & CLEAN_BIT[bits]) === 0 || stateByte & STATE_DIRTY)
      throw new CoreError('The FAT volume is not clean. It has to be checked before anything is written to it.')
    return new FatWriter(device, volume, (await readBytes(device, fatOffset, fatBytes)).slice())
  }

  /** The first cluster of the root directory; 0 where it has a place of its own. */
  get root(): number {
    return this.volume.geometry.rootCluster
  }

  async find(directory: number, name: string): Promise<FatEntry | undefined> {
    const { entries } = parseDirectory(await this.rowsOf(directory))
    return entries.find((e) => e.name.toUpperCase() === name.toUpperCase())
  }

  /**
   * Gives the volume another label, in its root directory and in its boot sector (section 6.3 of its specification): at
   * most eleven of the characters that short names have, in capitals.
   */
  async relabel(label: string): Promise<void> {
    const text = label.toUpperCase()
    expectLabel('fat32', label)
    const rows = (await this.rowsOf(this.root)).slice()
    let at = labelRow(rows)
    if (text !== '') {
      at ??= freeRows(rows, 1)
      if (at === undefined) throw new CoreError('The root directory of the FAT volume is full.')
      rows.set(entryRow(text.padEnd(LABEL_CHARACTERS), ATTRIBUTE_VOLUME, 0, 0), at)
    } else if (at !== undefined) rows[at] = 0xe5
    await this.writeRows(this.root, rows)
    const { bits, sectorSize } = this.volume.geometry
    const written = { label: (text || 'NO NAME').padEnd(LABEL_CHARACTERS) }
    const boot = (await readBytes(this.device, 0, sectorSize)).slice()
    const { backupBootSector } = BOOT_SECTOR.read(boot)
    const copies = bits === 32 && backupBootSector > 0 && backupBootSector < 32 ? [0, backupBootSector] : [0]
    for (const copy of copies) {
      const sector = (await readBytes(this.device, copy * sectorSize, sectorSize)).slice()
      if (bits === 32) BOOT_SECTOR.write(sector, written)
      else BOOT_SECTOR_16.write(sector, written)
      await this.device.write(copy * sectorSize, sector)
    }
  }

  async makeDirectory(parent: number, name: string): Promise<number> {
    const { clusterSize } = this.volume.geometry
    const [cluster] = this.take(clusterSize)
    const rows = new Uint8Array(clusterSize)
    rows.set(entryRow('.'.padEnd(11), ATTRIBUTE_DIRECTORY, cluster, 0))
    rows.set(entryRow('..'.padEnd(11), ATTRIBUTE_DIRECTORY, parent === this.root ? 0 : parent, 0), ROW)
    await writeBytes(this.device, this.volume.offsetOf(cluster), rows)
    await this.enter(parent, name, ATTRIBUTE_DIRECTORY, cluster, 0)
    return cluster
  }

  /** Makes a file of this content, or one with clusters for so many bytes that hold what they held. */
  async makeFile(parent: number, name: string, content: Uint8Array | number): Promise<void> {
    const first = typeof content === 'number' ? (this.take(content)[0] ?? 0) : await this.store(content)
    await this.enter(parent, name, ATTRIBUTE_ARCHIVE, first, typeof content === 'number' ? content : content.length)
  }

  /** Gives a file another name and length; the clusters behind that are free again. */
  async settle(parent: number, entry: FatEntry, name: string, bytes: number): Promise<void> {
    const clusters = this.chain(entry.firstCluster, Infinity)
    const kept = Math.ceil(bytes / this.volume.geometry.clusterSize)
    if (kept === 0 || kept > clusters.length)
      throw new CoreError('The file has fewer clusters than it is to have bytes.')
    this.link(clusters[kept - 1], ENTRY_MASK[this.volume.geometry.bits])
    this.release(clusters.slice(kept))
    await this.leave(parent, entry)
    await this.enter(parent, name, ATTRIBUTE_ARCHIVE, entry.firstCluster, bytes)
  }

  async remove(parent: number, entry: FatEntry): Promise<void> {
    if (entry.firstCluster !== 0) this.release(this.chain(entry.firstCluster, Infinity))
    await this.leave(parent, entry)
  }

  private release(clusters: readonly number[]): void {
    for (const cluster of clusters) this.link(cluster, 0)
    this.taken -= clusters.length
  }

  /** Frees the rows of a directory entry, those of its long name too. */
  private async leave(parent: number, { rowAt }: FatEntry): Promise<void> {
    const bytes = (await this.rowsOf(parent)).slice()
    bytes[rowAt] = 0xe5
    for (let at = rowAt - ROW; at >= 0 && isLongRow(bytes, at); at -= ROW) {
      const isLast = (bytes[at] & LAST_LONG_ENTRY) !== 0
      bytes[at] = 0xe5
      if (isLast) break
    }
    await this.writeRows(parent, bytes)
  }

  /** The new content has its place before the old one is given back. */
  async replaceFile(parent: number, { firstCluster, rowAt }: FatEntry, content: Uint8Array): Promise<void> {
    const first = await this.store(content)
    if (firstCluster !== 0) this.release(this.chain(firstCluster, Infinity))
    const bytes = (await this.rowsOf(parent)).slice()
    const row = bytes.subarray(rowAt, rowAt + ROW)
    row.set(withPlace(row, row[ATTRIBUTES_AT], first, content.length))
    await this.writeRows(parent, bytes)
  }

  /** Puts content into clusters of its own and gives the first; 0 for none. */
  private async store(content: Uint8Array): Promise<number> {
    const { clusterSize } = this.volume.geometry
    const clusters = this.take(content.length)
    for (const [i, cluster] of clusters.entries()) {
      const piece = new Uint8Array(clusterSize)
      piece.set(content.subarray(i * clusterSize, (i + 1) * clusterSize))
      await writeBytes(this.device, this.volume.offsetOf(cluster), piece)
    }
    return clusters[0] ?? 0
  }

  /** Writes the tables and what the information sector counts. */
  async done(): Promise<void> {
    const { bits, fatCount, fatOffset, fatBytes, sectorSize } = this.volume.geometry
    for (let copy = 0; copy < fatCount; copy++) await this.device.write(fatOffset + copy * fatBytes, this.bytes)
    if (bits !== 32) return
    const sector = (await readBytes(this.device, sectorSize, sectorSize)).slice()
    const { leadSignature, freeClusters } = INFORMATION_SECTOR.read(sector)
    if (leadSignature !== 0x41615252 || freeClusters === 0xffffffff || freeClusters < this.taken) return
    INFORMATION_SECTOR.write(sector, { freeClusters: freeClusters - this.taken })
    await this.device.write(sectorSize, sector)
  }

  private async rowsOf(directory: number): Promise<Uint8Array> {
    const { rootOffset, rootBytes } = this.volume.geometry
    if (directory === 0) return readBytes(this.device, rootOffset, rootBytes)
    const clusters = this.chain(directory)
    return this.volume.readChain(clusters, 0, clusters.length * this.volume.geometry.clusterSize)
  }

  /** Clusters of a chain by the table as it is held here. */
  private chain(first: number, mostBytes = MAX_DIRECTORY_BYTES): number[] {
    const { bits, clusterSize, clusterCount } = this.volume.geometry
    const clusters: number[] = []
    for (let cluster = first; cluster < END_OF_CHAIN[bits]; cluster = this.entry(cluster)) {
      const left = clusters.length * clusterSize < mostBytes && clusters.length <= clusterCount
      if (cluster < FIRST_CLUSTER || cluster >= clusterCount + FIRST_CLUSTER || !left)
        throw new CoreError(`A chain of the FAT volume leads to cluster ${cluster}.`)
      clusters.push(cluster)
    }
    return clusters
  }

  private async enter(
    directory: number,
    name: string,
    attributes: number,
    cluster: number,
    size: number,
  ): Promise<void> {
    expectFileName(name)
    const { geometry } = this.volume
    const old = await this.rowsOf(directory)
    const taken = new Set<string>()
    for (let at = 0; at + ROW <= old.length; at += ROW) taken.add(String.fromCharCode(...old.subarray(at, at + 11)))
    const rows = nameRows(name, taken)
    rows[rows.length - 1] = withPlace(rows.at(-1)!, attributes, cluster, size)
    let start = freeRows(old, rows.length)
    let bytes = old.slice()
    if (start === undefined) {
      if (directory === 0) throw new CoreError('The root directory of the FAT volume is full.')
      const clusters = this.chain(directory)
      const [more] = this.take(geometry.clusterSize)
      this.link(clusters.at(-1)!, more)
      bytes = new Uint8Array(old.length + geometry.clusterSize)
      bytes.set(old)
      start = old.length
    }
    rows.forEach((row, i) => bytes.set(row, start + i * ROW))
    await this.writeRows(directory, bytes)
  }

  private async writeRows(directory: number, bytes: Uint8Array): Promise<void> {
    const { geometry } = this.volume
    if (directory === 0) return this.device.write(geometry.rootOffset, bytes)
    for (const [i, cluster] of this.chain(directory).entries()) {
      const from = i * geometry.clusterSize
      await this.device.write(this.volume.offsetOf(cluster), bytes.slice(from, from + geometry.clusterSize))
    }
  }

  /** Takes free clusters for so many bytes and chains them. */
  private take(bytes: number): number[] {
    const { clusterSize, clusterCount, bits } = this.volume.geometry
    const count = Math.ceil(bytes / clusterSize)
    const clusters: number[] = []
    for (let c = FIRST_CLUSTER; clusters.length < count && c < clusterCount + FIRST_CLUSTER; c++)
      if (this.entry(c) === 0) clusters.push(c)
    if (clusters.length < count) throw new CoreError('The FAT volume has no room for the file.')
    clusters.forEach((c, i) => this.link(c, clusters[i + 1] ?? ENTRY_MASK[bits]))
    this.taken += count
    return clusters
  }

  private entry(cluster: number): number {
    const { bits } = this.volume.geometry
    return bits === 16
      ? this.table.getUint16(cluster * 2, true)
      : this.table.getUint32(cluster * 4, true) & ENTRY_MASK[32]
  }

  private link(cluster: number, to: number): void {
    if (this.volume.geometry.bits === 16) return this.table.setUint16(cluster * 2, to, true)
    // The four upper bits are not part of the entry and stay as they are.
    const upper = this.table.getUint32(cluster * 4, true) & ~ENTRY_MASK[32]
    this.table.setUint32(cluster * 4, (upper | to) >>> 0, true)
  }
}

/** A row that holds a part of a long name, and is not free. */
const isLongRow = (bytes: Uint8Array, at: number) =>
  bytes[at] !== 0xe5 && (bytes[at + ATTRIBUTES_AT] & 0x3f) === ATTRIBUTE_LONG_NAME

/** Where the row of the volume's label stands, or undefined. */
function labelRow(bytes: Uint8Array): number | undefined {
  for (let at = 0; at + ROW <= bytes.length && bytes[at] !== 0; at += ROW) {
    const attributes = bytes[at + ATTRIBUTES_AT] & 0x3f
    if (bytes[at] !== 0xe5 && attributes !== ATTRIBUTE_LONG_NAME && attributes & ATTRIBUTE_VOLUME) return at
  }
  return undefined
}

/** Where so many rows are free one behind the other, or undefined. Behind a row of zeros all are free. */
function freeRows(bytes: Uint8Array, count: number): number | undefined {
  let run = 0
  let ended = false
  for (let at = 0; at + ROW <= bytes.length; at += ROW) {
    ended ||= bytes[at] === 0
    run = ended || bytes[at] === 0xe5 ? run + 1 : 0
    if (run === count) return at - (count - 1) * ROW
  }
  return undefined
}
