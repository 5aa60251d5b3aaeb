import { defineStruct } from '../../bytes/struct'

// The container as Apple's published file system reference lays it out. Offsets in bytes.

/** "obj_phys_t". */
export const OBJECT = defineStruct('APFS object', 32, {
  checksum: [0, 'bits64'],
  oid: [8, 'bits64'],
  xid: [16, 'u64'],
  type: [24, 'u32'],
  subtype: [28, 'u32'],
})

/** "nx_superblock_t". */
export const CONTAINER = defineStruct('APFS container', 1384, {
  checksum: [0, 'bits64'],
  xid: [16, 'u64'],
  magic: [32, ['ascii', 4]],
  blockSize: [36, 'u32'],
  blockCount: [40, 'u64'],
  uuid: [72, 'uuid'],
  descriptorBlocks: [104, 'u32'],
  descriptorBase: [112, 'bits64'],
  descriptorIndex: [136, 'u32'],
  descriptorLength: [140, 'u32'],
  spacemanOid: [152, 'bits64'],
  omapOid: [160, 'u64'],
  volumeCount: [180, 'u32'],
  volumeOids: [184, ['bytes', 800]],
  /** Block of the record of a driver with which firmware reads the container; 0 for none. */
  efiJumpstart: [1272, 'u64'],
})

/** "nx_efi_jumpstart_t". */
export const JUMPSTART = defineStruct('APFS jumpstart', 176, {
  magic: [32, ['ascii', 4]],
  fileBytes: [40, 'u32'],
  extentCount: [44, 'u32'],
})

/** "checkpoint_mapping_t", from byte 40 of a checkpoint map on. */
export const MAPPING = defineStruct('APFS checkpoint mapping', 40, {
  type: [0, 'u32'],
  size: [8, 'u32'],
  oid: [24, 'bits64'],
  address: [32, 'u64'],
})

/** "spaceman_phys_t" with its main device. */
export const SPACEMAN = defineStruct('APFS space manager', 104, {
  blockSize: [32, 'u32'],
  blocksPerChunk: [36, 'u32'],
  chunksPerCib: [40, 'u32'],
  cibsPerCab: [44, 'u32'],
  blockCount: [48, 'u64'],
  chunkCount: [56, 'u64'],
  cibCount: [64, 'u32'],
  cabCount: [68, 'u32'],
  freeCount: [72, 'u64'],
  addressOffset: [80, 'u32'],
})

/** "chunk_info_t". */
export const CHUNK = defineStruct('APFS chunk', 32, {
  firstBlock: [8, 'u64'],
  blockCount: [16, 'u32'],
  freeCount: [20, 'u32'],
  bitmapBlock: [24, 'u64'],
})

/** "apfs_superblock_t", as far as it is read here. */
export const VOLUME = defineStruct('APFS volume', 976, {
  magic: [32, ['ascii', 4]],
  uuid: [240, 'uuid'],
  flags: [264, 'bits64'],
  name: [704, ['bytes', 256]],
  role: [964, 'u16'],
})

/** "btree_node_phys_t". */
export const NODE = defineStruct('APFS B-tree node', 56, {
  flags: [32, 'u16'],
  level: [34, 'u16'],
  count: [36, 'u32'],
  tableOffset: [40, 'u16'],
  tableLength: [42, 'u16'],
})

export const TYPE_SPACEMAN = 5
export const TYPE_CHECKPOINT_MAP = 0xc
export const TYPE_MASK = 0xffff
export const NODE_ROOT = 1
export const NODE_LEAF = 2
export const NODE_FIXED = 4
export const ROOT_FOOTER = 40
export const VOLUME_UNENCRYPTED = 1n
