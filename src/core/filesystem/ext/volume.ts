import { type BlockDevice, readBytes } from '../../block/device'
import { BadStructure } from '../../errors'
import {
  COMPATIBLE,
  EXT_MAGIC,
  GROUP_BLOCKS_UNINITIALISED,
  GROUP_DESCRIPTOR,
  GROUP_DESCRIPTOR_HIGH,
  INCOMPATIBLE,
  READ_ONLY,
  SUPERBLOCK,
  SUPERBLOCK_OFFSET,
} from './layout'

/** The numbers of the superblock, checked. */
export interface ExtGeometry {
  readonly superblock: ReturnType<typeof SUPERBLOCK.read>
  readonly blockSize: number
  readonly blockCount: number
  readonly freeBlocks: number
  readonly firstDataBlock: number
  readonly blocksPerGroup: number
  /** Blocks that one bit of a block bitmap stands for. */
  readonly clusterBlocks: number
  readonly inodesPerGroup: number
  readonly inodeSize: number
  readonly groupCount: number
  readonly descriptorSize: number
}

export interface Group {
  readonly blockBitmap: number
  readonly inodeBitmap: number
  readonly inodeTable: number
  /** Inodes at the end of its table that were never used, where the volume keeps count of them. */
  readonly unusedInodes: number
  /** Its block bitmap was never written: only its own metadata is used. */
  readonly uninitialised: boolean
}

/** Descriptors are at most 64 MiB of a volume that this program opens: a million groups of 128 MiB. */
const MAX_GROUPS = 1024 * 1024

/** Reads and checks the superblock. Throws BadStructure. */
export async function readExtGeometry(device: BlockDevice): Promise<ExtGeometry> {
  const superblock = SUPERBLOCK.read(await readBytes(device, SUPERBLOCK_OFFSET, 1024))
  const bad = (why: string) => new BadStructure('ext superblock', SUPERBLOCK_OFFSET, why)
  const { incompatible, readOnlyCompatible, firstDataBlock, blocksPerGroup, inodesPerGroup } = superblock
  if (superblock.magic !== EXT_MAGIC) throw bad('it does not carry its mark')
  if (superblock.logBlockSize > 6) throw bad(`it gives blocks of 2^${superblock.logBlockSize} KiB`)
  const blockSize = 1024 * 2 ** superblock.logBlockSize
  const wide = (incompatible & INCOMPATIBLE.wide) !== 0
  const high = (value: number) => (wide ? value * 2 ** 32 : 0)
  const blockCount = superblock.blockCountLow + high(superblock.blockCountHigh)
  if (!Number.isSafeInteger(blockCount) || blockCount * blockSize > device.size || blockCount <= firstDataBlock) {
    throw bad(`the volume claims ${blockCount} blocks of ${blockSize} bytes, which its partition does not have`)
  }
  if (firstDataBlock !== (blockSize === 1024 ? 1 : 0) && firstDataBlock !== 0)
    throw bad(`it begins at block ${firstDataBlock}`)
  const bigClusters = (readOnlyCompatible & READ_ONLY.bigClusters) !== 0
  if (bigClusters && superblock.logClusterSize > 20) throw bad('its clusters are too large')
  const clusterBlocks = bigClusters ? 2 ** Math.max(0, superblock.logClusterSize - superblock.logBlockSize) : 1
  const bitsPerGroup = bigClusters ? superblock.clustersPerGroup : blocksPerGroup
  // Programs that make these volumes take no fewer than 256 blocks.
  if (blocksPerGroup < 256 || bitsPerGroup * clusterBlocks !== blocksPerGroup || bitsPerGroup > blockSize * 8) {
    throw bad(`it gives ${blocksPerGroup} blocks a group`)
  }
  const inodeSize = superblock.revision === 0 ? 128 : superblock.inodeSize
  if (inodeSize < 128 || inodeSize > blockSize || !Number.isInteger(Math.log2(inodeSize))) {
    throw bad(`it gives inodes of ${inodeSize} bytes`)
  }
  if (inodesPerGroup === 0 || inodesPerGroup > blockSize * 8) throw bad(`it gives ${inodesPerGroup} inodes a group`)
  const groupCount = Math.ceil((blockCount - firstDataBlock) / blocksPerGroup)
  if (groupCount > MAX_GROUPS) throw bad(`it would have ${groupCount} groups`)
  const descriptorSize = wide ? superblock.descriptorSize : 32
  if (descriptorSize < 32 || descriptorSize > 1024 || !Number.isInteger(Math.log2(descriptorSize))) {
    throw bad(`it gives group descriptors of ${descriptorSize} bytes`)
  }
  return {
    superblock,
    blockSize,
    blockCount,
    freeBlocks: superblock.freeBlocksLow + high(superblock.freeBlocksHigh),
    firstDataBlock,
    blocksPerGroup,
    clusterBlocks,
    inodesPerGroup,
    inodeSize,
    groupCount,
    descriptorSize,
  }
}

/** All group descriptors. Throws BadStructure when one points outside the volume. */
export async function readGroups(device: BlockDevice, geometry: ExtGeometry): Promise<Group[]> {
  const { blockSize, groupCount, descriptorSize, blockCount, superblock } = geometry
  const perBlock = blockSize / descriptorSize
  const meta = (superblock.incompatible & INCOMPATIBLE.metaGroups) !== 0
  const groups: Group[] = []
  const tableBlocks = Math.ceil(groupCount / perBlock)
  for (let index = 0; index < tableBlocks;) {
    // With meta groups each block of descriptors stands at the head of the groups it describes.
    const inMeta = meta && index >= superblock.firstMetaGroup
    const block = inMeta ? metaBlock(index, geometry, perBlock) : superblockBlock(geometry) + 1 + index
    const count = inMeta ? 1 : Math.min(tableBlocks - index, 256, meta ? superblock.firstMetaGroup - index : Infinity)
    if ((block + count) * blockSize > device.size) {
      throw new BadStructure('ext group descriptors', block * blockSize, 'they lie outside the volume')
    }
    const bytes = await readBytes(device, block * blockSize, count * blockSize)
    for (let at = 0; at < bytes.length && groups.length < groupCount; at += descriptorSize) {
      const low = GROUP_DESCRIPTOR.read(bytes, at)
      const high = descriptorSize >= 64 ? GROUP_DESCRIPTOR_HIGH.read(bytes, at) : undefined
      const join = (name: 'blockBitmap' | 'inodeBitmap' | 'inodeTable') => low[name] + (high ? high[name] * 2 ** 32 : 0)
      const group = {
        blockBitmap: join('blockBitmap'),
        inodeBitmap: join('inodeBitmap'),
        inodeTable: join('inodeTable'),
        unusedInodes: hasChecksums(geometry)
          ? Math.min(geometry.inodesPerGroup, low.unusedInodes + (high ? high.unusedInodes * 2 ** 16 : 0))
          : 0,
        uninitialised: (low.flags & GROUP_BLOCKS_UNINITIALISED) !== 0 && hasChecksums(geometry),
      }
      if (Math.max(group.blockBitmap, group.inodeBitmap, group.inodeTable) >= blockCount) {
        throw new BadStructure(
          'ext group descriptors',
          block * blockSize + at,
          `group ${groups.length} puts its tables outside the volume`,
        )
      }
      groups.push(group)
    }
    index += count
  }
  return groups
}

/** The block that holds the first superblock: with blocks of 1 KiB it is the second one, whatever the first data block. */
function superblockBlock({ blockSize }: ExtGeometry): number {
  return blockSize === SUPERBLOCK_OFFSET ? 1 : 0
}

/** True when the group carries a copy of the superblock and the descriptors. */
export function hasBackup(group: number, { superblock }: ExtGeometry): boolean {
  if (group === 0) return true
  if (superblock.compatible & COMPATIBLE.sparseSuper2) {
    const view = new DataView(superblock.backupGroups.buffer, superblock.backupGroups.byteOffset)
    return group === view.getUint32(0, true) || group === view.getUint32(4, true)
  }
  if ((superblock.readOnlyCompatible & READ_ONLY.sparseSuper) === 0 || group === 1) return true
  return [3, 5, 7].some((base) => {
    let power = base
    while (power < group) power *= base
    return power === group
  })
}

function hasChecksums({ superblock }: ExtGeometry): boolean {
  return (superblock.readOnlyCompatible & (READ_ONLY.groupChecksum | READ_ONLY.metadataChecksum)) !== 0
}

function metaBlock(index: number, geometry: ExtGeometry, perBlock: number): number {
  const group = index * perBlock
  const start = geometry.firstDataBlock + group * geometry.blocksPerGroup
  // In a volume whose first data block is the boot block, the first group's superblock stands one block later.
  const shift = group === 0 ? superblockBlock(geometry) - geometry.firstDataBlock : 0
  return start + shift + (hasBackup(group, geometry) ? 1 : 0)
}
