import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { MovedDevice } from '../../block/moved'
import { OverlayDevice } from '../../block/overlay'
import { viewOf } from '../../bytes/struct'
import { BadStructure, CoreError, NotSupported } from '../../errors'
import { setBits } from '../bitmap'
import {
  COMPATIBLE,
  DOUBLE_INDIRECT,
  GROUP_BLOCKS_UNINITIALISED,
  GROUP_DESCRIPTOR,
  GROUP_DESCRIPTOR_HIGH,
  GROUP_INODES_UNINITIALISED,
  GROUP_TABLE_ZEROED,
  INCOMPATIBLE,
  INODE,
  READ_ONLY,
  RESIZE_INODE,
  STATE_CLEAN,
  STATE_ERRORS,
  SUPERBLOCK,
  SUPERBLOCK_OFFSET,
} from './layout'
import { ExtSums } from './sums'
import { type ExtGeometry, hasBackup, readExtGeometry, readGroups } from './volume'

/** A last group with fewer blocks than its tables and these is not made. */
const LEAST_DATA_BLOCKS = 50

/** Why a volume of this kind cannot be grown here, as a sentence; undefined where it can. */
export function whyNotGrown({ superblock }: ExtGeometry): string | undefined {
  const { compatible, incompatible, readOnlyCompatible } = superblock
  if (incompatible & INCOMPATIBLE.metaGroups) return 'Its group descriptors are spread over the volume.'
  if (readOnlyCompatible & READ_ONLY.bigClusters) return 'Its blocks are taken in clusters.'
  if (compatible & COMPATIBLE.sparseSuper2) return 'It keeps its copies in two chosen groups.'
  return undefined
}

/** The most bytes to which the room kept for group descriptors lets a volume grow. */
export function mostExtBytes(geometry: ExtGeometry): number {
  const { blockSize, superblock, groupCount, descriptorSize, blocksPerGroup, firstDataBlock } = geometry
  if (whyNotGrown(geometry)) return geometry.blockCount * blockSize
  const perBlock = blockSize / descriptorSize
  const kept = superblock.compatible & COMPATIBLE.resizeInode ? superblock.reservedGdtBlocks : 0
  const groups = (Math.ceil(groupCount / perBlock) + kept) * perBlock
  const wide = (superblock.incompatible & INCOMPATIBLE.wide) !== 0
  const inodes = Math.floor((2 ** 32 - 1) / geometry.inodesPerGroup)
  const blocks = Math.min(groups, inodes) * blocksPerGroup + firstDataBlock
  return Math.min(blocks, wide ? Number.MAX_SAFE_INTEGER / blockSize : 2 ** 32 - 1) * blockSize
}

/**
 * An ext2, ext3 or ext4 volume as it is on `size` bytes, more than it has: its last group is filled up, new groups
 * come behind it, and superblock, descriptors, their copies and the blocks kept for further descriptors say so. The
 * device is only read. Throws CoreError when the volume is not clean, NotSupported for kinds that are not grown.
 */
export async function growExt(device: BlockDevice, size: number): Promise<OverlayDevice> {
  const geometry = await readExtGeometry(device)
  const { superblock, blockSize } = geometry
  const open = superblock.incompatible & INCOMPATIBLE.recover || superblock.state & STATE_ERRORS
  if (open || (superblock.state & STATE_CLEAN) === 0) {
    throw new CoreError('The volume was not closed cleanly, so it is not grown before a file-system check.')
  }
  const why = whyNotGrown(geometry)
  if (why) throw new NotSupported(`${why} Such a volume is not grown here.`)
  if (Math.floor(size / blockSize) < geometry.blockCount)
    throw new NotSupported('An ext volume is not made smaller here.')
  // Descriptors that point outside are found before anything is taken from them.
  await readGroups(device, geometry)
  const blocks = Math.floor(Math.min(size, mostExtBytes(geometry)) / blockSize)
  const base = new MovedDevice(device, size, [])
  return new Growing(geometry, new OverlayDevice(base), blocks).run()
}

class Growing {
  private readonly perGroup: number
  private readonly oldGroups: number
  private readonly newGroups: number
  private readonly blockCount: number
  private readonly tableBlocks: number
  /** Blocks of descriptors, and those kept for more; their sum stays. */
  private readonly descriptorBlocks: number
  private readonly keptBlocks: number
  private descriptors!: Uint8Array
  private sums!: ExtSums

  constructor(
    private readonly geometry: ExtGeometry,
    private readonly overlay: OverlayDevice,
    blocks: number,
  ) {
    const { blocksPerGroup, firstDataBlock, groupCount, descriptorSize, blockSize, superblock } = geometry
    this.perGroup = blocksPerGroup
    this.oldGroups = groupCount
    this.tableBlocks = Math.ceil((geometry.inodesPerGroup * geometry.inodeSize) / blockSize)
    const descriptorBlocks = (groups: number) => Math.ceil((groups * descriptorSize) / blockSize)
    const kept = superblock.compatible & COMPATIBLE.resizeInode ? superblock.reservedGdtBlocks : 0
    const all = descriptorBlocks(groupCount) + kept
    let groups = Math.ceil((blocks - firstDataBlock) / blocksPerGroup)
    const inLast = blocks - firstDataBlock - (groups - 1) * blocksPerGroup
    const front = hasBackup(groups - 1, geometry) ? 1 + all : 0
    if (groups > groupCount && inLast < front + 2 + this.tableBlocks + LEAST_DATA_BLOCKS) {
      groups--
      this.blockCount = firstDataBlock + groups * blocksPerGroup
    } else this.blockCount = blocks
    this.newGroups = groups
    this.descriptorBlocks = descriptorBlocks(groups)
    this.keptBlocks = all - this.descriptorBlocks
  }

  async run(): Promise<OverlayDevice> {
    const { geometry, overlay } = this
    const { blockSize, descriptorSize, firstDataBlock } = geometry
    const superblock = new Uint8Array(await readBytes(overlay, SUPERBLOCK_OFFSET, 1024))
    this.sums = new ExtSums(geometry, superblock)
    this.descriptors = new Uint8Array(this.descriptorBlocks * blockSize)
    this.descriptors.set(await readBytes(overlay, (firstDataBlock + 1) * blockSize, this.oldGroups * descriptorSize))
    let free = await this.fillLastGroup()
    for (let group = this.oldGroups; group < this.newGroups; group++) free += await this.addGroup(group)
    if (geometry.superblock.compatible & COMPATIBLE.resizeInode) await this.rebuildResizeInode()
    this.writeCounts(superblock, free)
    await this.writeFronts(superblock)
    return overlay
  }

  /** Blocks that the old last group gets; returns how many become free. */
  private async fillLastGroup(): Promise<number> {
    const { geometry, oldGroups, perGroup } = this
    const last = oldGroups - 1
    const start = geometry.firstDataBlock + last * perGroup
    const before = geometry.blockCount - start
    const after = Math.min(perGroup, this.blockCount - start)
    if (after === before) return 0
    const bytes = this.descriptorOf(last)
    const low = GROUP_DESCRIPTOR.read(bytes)
    const high = this.isWide ? GROUP_DESCRIPTOR_HIGH.read(bytes) : undefined
    const uninitialised = this.sums.groups && (low.flags & GROUP_BLOCKS_UNINITIALISED) !== 0
    if (!uninitialised) {
      const at = (low.blockBitmap + (high?.blockBitmap ?? 0) * 2 ** 32) * geometry.blockSize
      const bitmap = new Uint8Array(await readBytes(this.overlay, at, geometry.blockSize))
      setBits(bitmap, before, after - before, false)
      await writeBytes(this.overlay, at, bitmap)
      this.writeBitmapSum(bytes, bitmap)
    }
    const free = low.freeBlocks + (high?.freeBlocks ?? 0) * 65536 + after - before
    this.writeCount(bytes, 'freeBlocks', free)
    this.sums.descriptor(bytes, last)
    return after - before
  }

  /** Lays out a new group with its tables at its head; returns its free blocks. */
  private async addGroup(group: number): Promise<number> {
    const { geometry, perGroup } = this
    const { blockSize, inodesPerGroup } = geometry
    const start = geometry.firstDataBlock + group * perGroup
    const blocks = Math.min(perGroup, this.blockCount - start)
    const front = hasBackup(group, geometry) ? 1 + this.descriptorBlocks + this.keptBlocks : 0
    const [blockBitmap, inodeBitmap, inodeTable] = [start + front, start + front + 1, start + front + 2]
    const own = front + 2 + this.tableBlocks
    const isLast = group === this.newGroups - 1
    // What was never written can be told from the descriptor alone, but for the last group.
    const lazy = this.sums.groups && !isLast
    const bytes = this.descriptorOf(group)
    const places = { blockBitmap, inodeBitmap, inodeTable }
    GROUP_DESCRIPTOR.write(bytes, {
      ...mapValues(places, (v) => v % 2 ** 32),
      flags: this.sums.groups
        ? GROUP_INODES_UNINITIALISED | GROUP_TABLE_ZEROED | (lazy ? GROUP_BLOCKS_UNINITIALISED : 0)
        : 0,
    })
    if (this.isWide)
      GROUP_DESCRIPTOR_HIGH.write(
        bytes,
        mapValues(places, (v) => Math.floor(v / 2 ** 32)),
      )
    this.writeCount(bytes, 'freeBlocks', blocks - own)
    this.writeCount(bytes, 'freeInodes', inodesPerGroup)
    if (this.sums.groups) this.writeCount(bytes, 'unusedInodes', inodesPerGroup)
    if (!lazy) {
      const bitmap = new Uint8Array(blockSize)
      setBits(bitmap, 0, own)
      setBits(bitmap, blocks, blockSize * 8 - blocks)
      await writeBytes(this.overlay, blockBitmap * blockSize, bitmap)
      this.writeBitmapSum(bytes, bitmap)
    }
    if (!this.sums.groups) {
      const bitmap = new Uint8Array(blockSize)
      setBits(bitmap, inodesPerGroup, blockSize * 8 - inodesPerGroup)
      await writeBytes(this.overlay, inodeBitmap * blockSize, bitmap)
    }
    this.sums.descriptor(bytes, group)
    return blocks - own
  }

  /** The blocks kept for descriptors with the places of their copies, and the inode that owns them all. */
  private async rebuildResizeInode(): Promise<void> {
    const { geometry, overlay } = this
    const { blockSize, firstDataBlock, inodeSize } = geometry
    const first = GROUP_DESCRIPTOR.read(this.descriptorOf(0))
    const high = this.isWide ? GROUP_DESCRIPTOR_HIGH.read(this.descriptorOf(0)).inodeTable * 2 ** 32 : 0
    const at = (first.inodeTable + high) * blockSize + (RESIZE_INODE - 1) * inodeSize
    const inode = new Uint8Array(await readBytes(overlay, at, inodeSize))
    const list = viewOf(INODE.read(inode).blocks).getUint32(DOUBLE_INDIRECT * 4, true)
    if (list === 0 || list >= geometry.blockCount) {
      if (this.keptBlocks === 0 && list === 0) return
      throw new BadStructure('ext inode 7', at, `it names block ${list} for the blocks it keeps`)
    }
    const copies: number[] = []
    for (let group = 1; group < this.newGroups; group++) if (hasBackup(group, geometry)) copies.push(group)
    const perBlock = blockSize / 4
    const lists = new Uint8Array(blockSize)
    for (let i = 0; i < this.keptBlocks; i++) {
      const block = firstDataBlock + 1 + this.descriptorBlocks + i
      viewOf(lists).setUint32(((this.descriptorBlocks + i) % perBlock) * 4, block, true)
      const places = new Uint8Array(blockSize)
      copies.forEach((group, k) => viewOf(places).setUint32(k * 4, block + group * this.perGroup, true))
      await writeBytes(overlay, block * blockSize, places)
    }
    await writeBytes(overlay, list * blockSize, lists)
    const owned = 1 + this.keptBlocks * (1 + copies.length)
    INODE.write(inode, { sectors: owned * (blockSize / 512) })
    this.sums.inode(inode, RESIZE_INODE)
    await writeBytes(overlay, at, inode)
  }

  private writeCounts(bytes: Uint8Array, addedFree: number): void {
    const { geometry } = this
    const { superblock } = geometry
    const wide = (superblock.incompatible & INCOMPATIBLE.wide) !== 0
    const reserved = superblock.reservedLow + (wide ? superblock.reservedHigh * 2 ** 32 : 0)
    const inodes = (this.newGroups - this.oldGroups) * geometry.inodesPerGroup
    const counts = {
      blockCount: this.blockCount,
      freeBlocks: geometry.freeBlocks + addedFree,
      // The share kept for the system's own use stays.
      reserved: Math.floor((reserved / geometry.blockCount) * this.blockCount),
    }
    for (const [name, value] of Object.entries(counts) as [keyof typeof counts, number][]) {
      SUPERBLOCK.write(bytes, { [`${name}Low`]: value % 2 ** 32 })
      if (wide) SUPERBLOCK.write(bytes, { [`${name}High`]: Math.floor(value / 2 ** 32) })
    }
    SUPERBLOCK.write(bytes, {
      inodeCount: superblock.inodeCount + inodes,
      freeInodes: superblock.freeInodes + inodes,
      reservedGdtBlocks: this.keptBlocks,
      // Nought has the system count it anew.
      overhead: 0,
    })
  }

  /** Superblock and descriptors, and their copies in the groups that have them. */
  private async writeFronts(superblock: Uint8Array): Promise<void> {
    const { geometry, overlay } = this
    const { blockSize, firstDataBlock } = geometry
    for (let group = 0; group < this.newGroups; group++) {
      if (!hasBackup(group, geometry)) continue
      const start = firstDataBlock + group * this.perGroup
      SUPERBLOCK.write(superblock, { blockGroup: group })
      this.sums.superblock(superblock)
      await writeBytes(overlay, group === 0 ? SUPERBLOCK_OFFSET : start * blockSize, superblock)
      await writeBytes(overlay, (start + 1) * blockSize, this.descriptors)
    }
  }

  private get isWide(): boolean {
    return this.geometry.descriptorSize >= 64
  }

  private descriptorOf(group: number): Uint8Array {
    const { descriptorSize } = this.geometry
    return this.descriptors.subarray(group * descriptorSize, (group + 1) * descriptorSize)
  }

  private writeCount(bytes: Uint8Array, name: 'freeBlocks' | 'freeInodes' | 'unusedInodes', value: number): void {
    GROUP_DESCRIPTOR.write(bytes, { [name]: value & 0xffff })
    if (this.isWide) GROUP_DESCRIPTOR_HIGH.write(bytes, { [name]: value >>> 16 })
  }

  private writeBitmapSum(bytes: Uint8Array, bitmap: Uint8Array): void {
    const sum = this.sums.bitmap(bitmap, this.perGroup)
    GROUP_DESCRIPTOR.write(bytes, { blockBitmapSum: sum & 0xffff })
    if (this.isWide) GROUP_DESCRIPTOR_HIGH.write(bytes, { blockBitmapSum: sum >>> 16 })
  }
}

function mapValues<K extends string>(values: Record<K, number>, of: (value: number) => number): Record<K, number> {
  return Object.fromEntries(Object.entries<number>(values).map(([key, value]) => [key, of(value)])) as Record<K, number>
}
