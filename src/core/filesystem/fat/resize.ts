import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { type Move, MovedDevice } from '../../block/moved'
import { OverlayDevice } from '../../block/overlay'
import { formatSize } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { CoreError, NotSupported } from '../../errors'
import { FreeSpace, gapsOf, PlaceMap, placeAll, type UnitMove } from '../free-space'
import {
  ATTRIBUTE_DIRECTORY,
  ATTRIBUTE_LONG_NAME,
  ATTRIBUTE_VOLUME,
  BAD_CLUSTER,
  BOOT_SECTOR,
  BOOT_SECTOR_16,
  CLEAN_BIT,
  DIRECTORY_ENTRY,
  END_OF_CHAIN,
  ENTRY_MASK,
  FAT16_MIN_CLUSTERS,
  FAT32_MIN_CLUSTERS,
  type FatBits,
  FIRST_CLUSTER,
  INFORMATION_SECTOR,
  MAX_DIRECTORY_BYTES,
  STATE_DIRTY,
} from './layout'
import { type FatGeometry, FatVolume, readFatGeometry } from './volume'

/** Most clusters of each width (section 3.5); the values behind them stand for something else. */
const MOST_CLUSTERS: Record<FatBits, number> = { 12: 4084, 16: 65524, 32: 0x0ffffff4 }
const MIN_CLUSTERS: Record<FatBits, number> = { 12: 1, 16: FAT16_MIN_CLUSTERS, 32: FAT32_MIN_CLUSTERS }
/** A table of more entries is not taken into memory. */
const MAX_ENTRIES = 64 * 1024 * 1024
/** Sectors in front of the tables of a FAT32, with the copy of the boot sector among them. */
const RESERVED_32 = { sectors: 32, information: 1, backup: 6 }
const PIECE = 1024 * 1024

/** Where everything lies on the volume in its new size. Sectors of the volume. */
interface Goal {
  readonly bits: FatBits
  readonly reservedSectors: number
  readonly fatSectors: number
  readonly clusterCount: number
  readonly totalSectors: number
  readonly rootOffset: number
  readonly dataOffset: number
}

/** The most bytes that a FAT with clusters of this size can be made to hold, as FAT32. */
export function mostFatBytes({ clusterSize, sectorSize }: FatGeometry): number {
  const tables = 2 * Math.ceil((MOST_CLUSTERS[32] * 4) / sectorSize) * sectorSize
  return Math.min((2 ** 32 - 1) * sectorSize, MOST_CLUSTERS[32] * clusterSize + tables)
}

/**
 * A FAT volume as it is on `size` bytes. Growing keeps the clusters' size and moves the clusters behind longer
 * tables; a FAT12 or FAT16 that would have too many becomes the next wider kind. Shrinking gives clusters behind
 * the new end other places. The device is only read. Throws CoreError when the volume is not clean or does not go
 * into `size`.
 */
export async function resizeFat(device: BlockDevice, size: number): Promise<OverlayDevice> {
  const geometry = await readFatGeometry(device)
  const volume = new FatVolume(device, geometry)
  const state = await volume.stateEntry()
  const cleanBit = CLEAN_BIT[geometry.bits]
  if (geometry.stateByte & STATE_DIRTY || (state & cleanBit) !== cleanBit) {
    throw new CoreError('The volume was not closed cleanly, so its size is not changed before a file-system check.')
  }
  if (geometry.clusterCount > MAX_ENTRIES) {
    throw new NotSupported('This FAT volume has more clusters than can be handled here, so it keeps its size.')
  }
  return new Resizing(volume, goalFor(geometry, Math.floor(size / geometry.sectorSize)), size).run()
}

function goalFor(geometry: FatGeometry, sectors: number): Goal {
  const { bits, clusterCount, clusterSize } = geometry
  const same = layOut(geometry, bits, sectors)
  if (same.clusterCount < MIN_CLUSTERS[bits] && clusterCount >= MIN_CLUSTERS[bits]) {
    throw new CoreError(
      `A FAT${bits} with clusters of ${formatSize(clusterSize)} has at least ${MIN_CLUSTERS[bits]} of them, and ${formatSize(sectors * geometry.sectorSize)} leave room for ${Math.max(0, same.clusterCount)}.`,
    )
  }
  if (same.clusterCount <= MOST_CLUSTERS[bits]) return same
  for (const wider of [16, 32] as const) {
    const goal = layOut(geometry, wider, sectors)
    if (wider > bits && goal.clusterCount >= MIN_CLUSTERS[wider] && goal.clusterCount <= MOST_CLUSTERS[wider])
      return goal
  }
  throw new CoreError(
    `A FAT volume with clusters of ${formatSize(clusterSize)} cannot be made ${formatSize(sectors * geometry.sectorSize)} large.`,
  )
}

function layOut(geometry: FatGeometry, bits: FatBits, sectors: number): Goal {
  const { sectorSize, clusterSize, fatCount, fatOffset, fatBytes, rootBytes } = geometry
  const widened = bits !== geometry.bits
  const reservedSectors = widened && bits === 32 ? RESERVED_32.sectors : fatOffset / sectorSize
  const root = bits === 32 ? 0 : rootBytes / sectorSize
  const perCluster = clusterSize / sectorSize
  let fatSectors = widened ? 1 : fatBytes / sectorSize
  for (;;) {
    const front = reservedSectors + fatCount * fatSectors + root
    const clusterCount = Math.floor((sectors - front) / perCluster)
    const needed = Math.ceil(((clusterCount + FIRST_CLUSTER) * bits) / 8 / sectorSize)
    if (needed <= fatSectors) {
      const rootOffset = (reservedSectors + fatCount * fatSectors) * sectorSize
      return {
        bits,
        reservedSectors,
        fatSectors,
        clusterCount,
        totalSectors: sectors,
        rootOffset,
        dataOffset: front * sectorSize,
      }
    }
    fatSectors = needed
  }
}

class Resizing {
  private readonly geometry: FatGeometry
  private overlay!: OverlayDevice
  private map = new PlaceMap([])
  private rootCluster: number

  constructor(
    private readonly volume: FatVolume,
    private readonly goal: Goal,
    private readonly size: number,
  ) {
    this.geometry = volume.geometry
    this.rootCluster = volume.geometry.rootCluster
  }

  async run(): Promise<OverlayDevice> {
    const { geometry, goal, volume } = this
    const old = await this.readTable()
    const relocated = this.relocate(old)
    this.map = new PlaceMap(relocated)
    this.overlay = new OverlayDevice(new MovedDevice(volume.device, this.size, this.moves(relocated)))
    const table = this.newTable(old)
    if (relocated.length > 0 || this.widens) await this.rewriteDirectories()
    if (geometry.bits === 32) this.rootCluster = this.map.of(geometry.rootCluster)
    else if (goal.bits === 32) await this.giveRootClusters(table)
    await this.writeBoot(table)
    await this.writeTables(table)
    return this.overlay
  }

  private async readTable(): Promise<Uint32Array> {
    const { bits, clusterCount, fatOffset } = this.geometry
    const entries = clusterCount + FIRST_CLUSTER
    const table = new Uint32Array(entries)
    if (bits === 12) {
      for (let cluster = 0; cluster < entries; cluster++) table[cluster] = await this.volume.entry(cluster)
      return table
    }
    const width = bits / 8
    for (let from = 0; from < entries * width; from += PIECE) {
      const view = viewOf(
        await readBytes(this.volume.device, fatOffset + from, Math.min(PIECE, entries * width - from)),
      )
      for (let at = 0; at < view.byteLength; at += width) {
        table[(from + at) / width] = width === 2 ? view.getUint16(at, true) : view.getUint32(at, true)
      }
    }
    return table
  }

  /** New places for clusters behind the new end. */
  private relocate(table: Uint32Array): UnitMove[] {
    const { bits, clusterSize } = this.geometry
    const end = this.goal.clusterCount + FIRST_CLUSTER
    if (end >= table.length) return []
    const used = [...usedRuns(table, bits)]
    const behind = [...usedRuns(table, bits, true)]
      .filter((run) => run.offset + run.length > end)
      .map(({ offset, length }) => ({ offset: Math.max(offset, end), length: offset + length - Math.max(offset, end) }))
    const space = new FreeSpace(gapsOf([{ offset: 0, length: FIRST_CLUSTER }, ...used], end))
    const missing = behind.reduce((sum, s) => sum + s.length, 0) - space.units
    const moves = placeAll(behind, space)
    if (!moves) {
      throw new CoreError(
        `What is on the volume does not go into ${formatSize(this.size)}: ${formatSize(missing * clusterSize)} are missing.`,
      )
    }
    return moves
  }

  private moves(relocated: readonly UnitMove[]): Move[] {
    const { geometry, goal } = this
    const { clusterSize } = geometry
    const newOffset = (cluster: number) => goal.dataOffset + (cluster - FIRST_CLUSTER) * clusterSize
    if (relocated.length > 0) {
      return relocated.map(({ from, to, length }) => ({
        from: this.volume.offsetOf(from),
        to: newOffset(to),
        length: length * clusterSize,
      }))
    }
    const kept = Math.min(geometry.clusterCount, goal.clusterCount)
    const moves: Move[] = [{ from: geometry.dataOffset, to: goal.dataOffset, length: kept * clusterSize }]
    if (geometry.rootBytes > 0 && goal.bits !== 32) {
      moves.push({ from: geometry.rootOffset, to: goal.rootOffset, length: geometry.rootBytes })
    }
    return moves.filter((m) => m.from !== m.to)
  }

  private newTable(old: Uint32Array): Uint32Array {
    const { bits } = this.geometry
    const { bits: wide, clusterCount } = this.goal
    const table = new Uint32Array(clusterCount + FIRST_CLUSTER)
    const high = ~ENTRY_MASK[bits]
    const last = ENTRY_MASK[wide]
    for (let cluster = 0; cluster < old.length; cluster++) {
      const raw = old[cluster]
      const value = (raw & ENTRY_MASK[bits]) >>> 0
      if (value === 0) continue
      const place = cluster < FIRST_CLUSTER ? cluster : this.map.of(cluster)
      // Clusters that cannot be read and lie behind the new end are no matter any more.
      if (place >= table.length) continue
      if (cluster < FIRST_CLUSTER && wide === bits) table[cluster] = raw
      else if (cluster === 0) table[0] = ((last & ~0xff) | (value & 0xff)) >>> 0
      else if (cluster === 1) table[1] = last
      else if (value === BAD_CLUSTER[bits]) table[place] = BAD_CLUSTER[wide]
      else if (value >= END_OF_CHAIN[bits]) table[place] = wide === bits ? raw : last
      else table[place] = ((wide === bits ? raw & high : 0) | this.map.of(value)) >>> 0
    }
    return table
  }

  /** A narrower table becomes one of 32 bits, whose entries have an upper half of the first cluster. */
  private get widens(): boolean {
    return this.goal.bits === 32 && this.geometry.bits !== 32
  }

  /**
   * Puts the new first clusters into every directory entry that names a moved one. Where an entry of a FAT32 has the
   * upper half of its cluster, those of other widths may hold anything, which is taken out.
   */
  private async rewriteDirectories(): Promise<void> {
    const { geometry, volume } = this
    const pending: number[] = []
    if (geometry.rootCluster > 0) pending.push(geometry.rootCluster)
    else {
      const bytes = await readBytes(volume.device, geometry.rootOffset, geometry.rootBytes)
      // The root directory of a FAT32 is put into clusters of its own.
      const changed = this.rewriteEntries(bytes, pending)
      if (changed && !this.widens) await writeBytes(this.overlay, geometry.rootOffset, bytes)
    }
    const seen = new Set<number>()
    const most = Math.ceil(MAX_DIRECTORY_BYTES / geometry.clusterSize)
    for (let first = pending.pop(); first !== undefined; first = pending.pop()) {
      if (seen.has(first)) continue
      seen.add(first)
      const clusters = await volume.chain(first, 'a directory', most, true)
      for (const cluster of clusters) {
        const bytes = new Uint8Array(await readBytes(volume.device, volume.offsetOf(cluster), geometry.clusterSize))
        const place = this.goal.dataOffset + (this.map.of(cluster) - FIRST_CLUSTER) * geometry.clusterSize
        if (this.rewriteEntries(bytes, pending)) await writeBytes(this.overlay, place, bytes)
        if (hasEnd(bytes)) break
      }
    }
  }

  private rewriteEntries(bytes: Uint8Array, directories: number[]): boolean {
    let changed = false
    for (let at = 0; at + DIRECTORY_ENTRY.size <= bytes.length && bytes[at] !== 0; at += DIRECTORY_ENTRY.size) {
      const attributes = bytes[at + 11]
      if (bytes[at] === 0xe5 || (attributes & 0x3f) === ATTRIBUTE_LONG_NAME || attributes & ATTRIBUTE_VOLUME) continue
      const { clusterHigh, clusterLow } = DIRECTORY_ENTRY.read(bytes, at)
      const first = (this.geometry.bits === 32 ? clusterHigh * 65536 : 0) + clusterLow
      if (this.widens && clusterHigh !== 0) {
        DIRECTORY_ENTRY.write(bytes, { clusterHigh: 0 }, at)
        changed = true
      }
      if (first < FIRST_CLUSTER) continue
      if (attributes & ATTRIBUTE_DIRECTORY && bytes[at] !== 0x2e) directories.push(first)
      const now = this.map.of(first)
      if (now === first) continue
      const values = { clusterLow: now & 0xffff, ...(this.goal.bits === 32 ? { clusterHigh: now >>> 16 } : {}) }
      DIRECTORY_ENTRY.write(bytes, values, at)
      changed = true
    }
    return changed
  }

  /** The root directory of a FAT32 is a chain like any other. */
  private async giveRootClusters(table: Uint32Array): Promise<void> {
    const { rootOffset, rootBytes, clusterSize, clusterCount } = this.geometry
    const bytes = await readBytes(this.volume.device, rootOffset, rootBytes)
    const count = Math.ceil(rootBytes / clusterSize)
    // Behind the clusters that were there all are free.
    this.rootCluster = clusterCount + FIRST_CLUSTER
    const content = new Uint8Array(count * clusterSize)
    content.set(bytes)
    this.rewriteEntries(content, [])
    await writeBytes(this.overlay, this.goal.dataOffset + clusterCount * clusterSize, content)
    for (let i = 0; i < count; i++) {
      table[this.rootCluster + i] = i === count - 1 ? ENTRY_MASK[32] : this.rootCluster + i + 1
    }
  }

  private async writeBoot(table: Uint32Array): Promise<void> {
    const { geometry, goal } = this
    const { bits, totalSectors, fatSectors, reservedSectors } = goal
    const boot = new Uint8Array(await readBytes(this.volume.device, 0, 512))
    const small = bits !== 32 && totalSectors < 65536
    BOOT_SECTOR.write(boot, { totalSectors16: small ? totalSectors : 0, totalSectors: small ? 0 : totalSectors })
    if (bits === 32) {
      if (geometry.bits !== 32) widenBoot(boot)
      BOOT_SECTOR.write(boot, { fatSectors16: 0, fatSectors, reservedSectors, rootCluster: this.rootCluster })
      await this.writeFront(boot, table)
    } else {
      BOOT_SECTOR.write(boot, { fatSectors16: fatSectors })
      if (bits !== geometry.bits) BOOT_SECTOR_16.write(boot, { typeName: `FAT${bits}   ` })
      await writeBytes(this.overlay, 0, boot)
    }
  }

  /** Boot and information sector of a FAT32, and their copies. */
  private async writeFront(boot: Uint8Array, table: Uint32Array): Promise<void> {
    const { geometry, goal } = this
    const { sectorSize } = geometry
    if (geometry.bits !== 32) {
      await writeBytes(this.overlay, 512, new Uint8Array(goal.reservedSectors * sectorSize - 512))
    }
    const { informationSector, backupBootSector } = BOOT_SECTOR.read(boot)
    const within = (sector: number) => sector > 0 && sector < goal.reservedSectors
    const fronts = [0, ...(within(backupBootSector) ? [backupBootSector] : [])]
    let free = 0
    for (let cluster = FIRST_CLUSTER; cluster < table.length; cluster++)
      if ((table[cluster] & ENTRY_MASK[32]) === 0) free++
    const information = new Uint8Array(512)
    const nextFree = table.indexOf(0, FIRST_CLUSTER)
    INFORMATION_SECTOR.write(information, {
      leadSignature: 0x41615252,
      structSignature: 0x61417272,
      freeClusters: free,
      nextFree: nextFree < 0 ? 0xffffffff : nextFree,
      trailSignature: 0xaa550000,
    })
    for (const front of fronts) {
      await writeBytes(this.overlay, front * sectorSize, boot)
      const at = front + informationSector
      if (within(informationSector) && within(at)) await writeBytes(this.overlay, at * sectorSize, information)
    }
  }

  private async writeTables(table: Uint32Array): Promise<void> {
    const { bits, fatSectors, reservedSectors } = this.goal
    const { sectorSize, fatCount } = this.geometry
    const length = fatSectors * sectorSize
    for (let from = 0; from < length; from += PIECE * 3) {
      // Three mebibytes hold whole entries of every width.
      const bytes = new Uint8Array(Math.min(PIECE * 3, length - from))
      encodeEntries(table, bits, from, bytes)
      for (let copy = 0; copy < fatCount; copy++) {
        await writeBytes(this.overlay, (reservedSectors + copy * fatSectors) * sectorSize + from, bytes)
      }
    }
  }
}

/** Runs of clusters that are taken, those that cannot be read left out on request. */
function* usedRuns(
  table: Uint32Array,
  bits: FatBits,
  withoutBad = false,
): Generator<{ offset: number; length: number }> {
  const mask = ENTRY_MASK[bits]
  let start = -1
  for (let cluster = FIRST_CLUSTER; cluster <= table.length; cluster++) {
    const value = cluster < table.length ? (table[cluster] & mask) >>> 0 : 0
    const used = value !== 0 && !(withoutBad && value === BAD_CLUSTER[bits])
    if (used && start < 0) start = cluster
    if (!used && start >= 0) {
      yield { offset: start, length: cluster - start }
      start = -1
    }
  }
}

function hasEnd(bytes: Uint8Array): boolean {
  for (let at = 0; at < bytes.length; at += DIRECTORY_ENTRY.size) if (bytes[at] === 0) return true
  return false
}

/** What a FAT16 has from byte 36 on stands elsewhere in a FAT32, whose start-up code is another. */
function widenBoot(boot: Uint8Array): void {
  const { serial, label } = BOOT_SECTOR_16.read(boot)
  boot.fill(0, 36, 510)
  BOOT_SECTOR.write(boot, {
    jump: Uint8Array.of(0xeb, 0x58, 0x90),
    rootEntries: 0,
    informationSector: RESERVED_32.information,
    backupBootSector: RESERVED_32.backup,
    driveNumber: 0x80,
    bootSignature: 0x29,
    serial,
    label,
    typeName: 'FAT32   ',
  })
}

/** Fills `into` with the bytes of a table from byte `from` on, a multiple of 3. */
function encodeEntries(table: Uint32Array, bits: FatBits, from: number, into: Uint8Array): void {
  const view = viewOf(into)
  if (bits === 12) {
    for (let cluster = (from * 2) / 3; cluster < table.length; cluster += 2) {
      const at = (cluster * 3) / 2 - from
      if (at >= into.length) break
      const pair = table[cluster] | ((table[cluster + 1] ?? 0) << 12)
      for (let i = 0; i < 3 && at + i < into.length; i++) into[at + i] = (pair >> (8 * i)) & 0xff
    }
    return
  }
  const width = bits / 8
  for (let at = 0, cluster = from / width; at < into.length && cluster < table.length; at += width, cluster++) {
    if (width === 2) view.setUint16(at, table[cluster], true)
    else view.setUint32(at, table[cluster], true)
  }
}
