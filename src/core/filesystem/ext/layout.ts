import { defineStruct } from '../../bytes/struct'

// ext2, ext3 and ext4 as the Linux kernel's documentation of ext4 lays them out. Offsets in bytes.

export const SUPERBLOCK_OFFSET = 1024

/** "The Super Block". */
export const SUPERBLOCK = defineStruct('ext superblock', 1024, {
  inodeCount: [0, 'u32'],
  blockCountLow: [4, 'u32'],
  reservedLow: [8, 'u32'],
  freeBlocksLow: [12, 'u32'],
  freeInodes: [16, 'u32'],
  firstDataBlock: [20, 'u32'],
  logBlockSize: [24, 'u32'],
  logClusterSize: [28, 'u32'],
  blocksPerGroup: [32, 'u32'],
  clustersPerGroup: [36, 'u32'],
  inodesPerGroup: [40, 'u32'],
  magic: [56, 'u16'],
  state: [58, 'u16'],
  revision: [76, 'u32'],
  blockGroup: [90, 'u16'],
  inodeSize: [88, 'u16'],
  compatible: [92, 'u32'],
  incompatible: [96, 'u32'],
  readOnlyCompatible: [100, 'u32'],
  uuid: [104, 'uuid'],
  label: [120, ['bytes', 16]],
  reservedGdtBlocks: [206, 'u16'],
  journalInode: [224, 'u32'],
  descriptorSize: [254, 'u16'],
  firstMetaGroup: [260, 'u32'],
  blockCountHigh: [336, 'u32'],
  reservedHigh: [340, 'u32'],
  freeBlocksHigh: [344, 'u32'],
  overhead: [584, 'u32'],
  backupGroups: [588, ['bytes', 8]],
  checksumSeed: [624, 'u32'],
  checksum: [1020, 'u32'],
})

/** "Block Group Descriptors". The upper halves stand only in descriptors of 64 bytes. */
export const GROUP_DESCRIPTOR = defineStruct('ext group descriptor', 32, {
  blockBitmap: [0, 'u32'],
  inodeBitmap: [4, 'u32'],
  inodeTable: [8, 'u32'],
  freeBlocks: [12, 'u16'],
  freeInodes: [14, 'u16'],
  flags: [18, 'u16'],
  blockBitmapSum: [24, 'u16'],
  unusedInodes: [28, 'u16'],
  checksum: [30, 'u16'],
})
export const GROUP_DESCRIPTOR_HIGH = defineStruct('ext group descriptor', 64, {
  blockBitmap: [32, 'u32'],
  inodeBitmap: [36, 'u32'],
  inodeTable: [40, 'u32'],
  freeBlocks: [44, 'u16'],
  freeInodes: [46, 'u16'],
  unusedInodes: [50, 'u16'],
  blockBitmapSum: [56, 'u16'],
})

/** "Index Nodes". */
export const INODE = defineStruct('ext inode', 128, {
  mode: [0, 'u16'],
  sizeLow: [4, 'u32'],
  linkCount: [26, 'u16'],
  sectors: [28, 'u32'],
  flags: [32, 'u32'],
  blocks: [40, ['bytes', 60]],
  generation: [100, 'u32'],
  sizeHigh: [108, 'u32'],
  checksumLow: [124, 'u16'],
})
/** Behind the first 128 bytes, where an inode is longer and says that it has these. */
export const INODE_EXTRA = defineStruct('ext inode', 132, {
  extraSize: [128, 'u16'],
  checksumHigh: [130, 'u16'],
})

/** "Extent Tree": header, index and leaf alike of 12 bytes. */
export const EXTENT_HEADER = defineStruct('ext extent header', 12, {
  magic: [0, 'u16'],
  entries: [2, 'u16'],
  depth: [6, 'u16'],
})
export const EXTENT_INDEX = defineStruct('ext extent index', 12, {
  block: [0, 'u32'],
  leafLow: [4, 'u32'],
  leafHigh: [8, 'u16'],
})
export const EXTENT_LEAF = defineStruct('ext extent', 12, {
  block: [0, 'u32'],
  length: [4, 'u16'],
  startHigh: [6, 'u16'],
  startLow: [8, 'u32'],
})

export const EXT_MAGIC = 0xef53
export const EXTENT_MAGIC = 0xf30a
export const STATE_CLEAN = 1
export const STATE_ERRORS = 2

export const COMPATIBLE = { journal: 0x4, resizeInode: 0x10, sparseSuper2: 0x200 } as const
export const INCOMPATIBLE = {
  recover: 0x4,
  journalDevice: 0x8,
  metaGroups: 0x10,
  extents: 0x40,
  wide: 0x80,
  flexGroups: 0x200,
  checksumSeed: 0x2000,
  inlineData: 0x8000,
} as const
export const READ_ONLY = {
  sparseSuper: 0x1,
  hugeFile: 0x8,
  groupChecksum: 0x10,
  extraInodeSize: 0x40,
  bigClusters: 0x200,
  metadataChecksum: 0x400,
} as const

export const GROUP_INODES_UNINITIALISED = 1
export const GROUP_BLOCKS_UNINITIALISED = 2
export const GROUP_TABLE_ZEROED = 4
/** The inode that owns the blocks kept for further group descriptors. */
export const RESIZE_INODE = 7
/** Of the block list of an inode: the entry of the block that names blocks of block numbers. */
export const DOUBLE_INDIRECT = 13
export const INODE_EXTENTS = 0x80000
export const INODE_INLINE = 0x10000000
export const ROOT_INODE = 2
/** Extents longer than this are taken but not yet written: they read as zeros. */
export const LONGEST_WRITTEN = 32768
export const MODE = { mask: 0xf000, directory: 0x4000, file: 0x8000, link: 0xa000 } as const
/** A directory longer than this is taken for damage. */
export const MAX_DIRECTORY_BYTES = 64 * 1024 * 1024
