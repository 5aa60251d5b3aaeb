import { defineStruct } from '../../bytes/struct'

// HFS Plus as Apple's Technical Note TN1150 lays it out. All numbers are big-endian.

export const HEADER_OFFSET = 1024

/** "Volume Header". The forks of its special files follow from byte 112, 80 bytes each. */
export const VOLUME_HEADER = defineStruct(
  'HFS+ volume header',
  512,
  {
    signature: [0, ['ascii', 2]],
    version: [2, 'u16'],
    attributes: [4, 'u32'],
    lastMountedVersion: [8, ['ascii', 4]],
    journalBlock: [12, 'u32'],
    created: [16, 'u32'],
    modified: [20, 'u32'],
    checked: [28, 'u32'],
    fileCount: [32, 'u32'],
    folderCount: [36, 'u32'],
    blockSize: [40, 'u32'],
    totalBlocks: [44, 'u32'],
    freeBlocks: [48, 'u32'],
    nextAllocation: [52, 'u32'],
    dataClump: [60, 'u32'],
    nextCatalogId: [64, 'u32'],
    writeCount: [68, 'u32'],
    encodings: [72, 'bits64'],
    systemFolder: [80, 'u32'],
    systemFolderX: [100, 'u32'],
    volumeId: [104, 'bits64'],
  },
  'big',
)

/** "Fork Data Structure". */
export const FORK = defineStruct(
  'HFS+ fork',
  80,
  { size: [0, 'u64'], clump: [8, 'u32'], blocks: [12, 'u32'], extents: [16, ['bytes', 64]] },
  'big',
)

export const FORKS = { allocation: 112, extents: 192, catalog: 272, attributes: 352, startup: 432 } as const

export const ATTRIBUTE_UNMOUNTED = 0x100
export const ATTRIBUTE_INCONSISTENT = 0x800
export const ATTRIBUTE_JOURNALED = 0x2000

/** "Node Structure". */
export const NODE = defineStruct(
  'HFS+ B-tree node',
  14,
  { next: [0, 'u32'], previous: [4, 'u32'], kind: [8, 'i8'], height: [9, 'u8'], records: [10, 'u16'] },
  'big',
)

/** "Header Record". */
export const TREE_HEADER = defineStruct(
  'HFS+ B-tree header',
  106,
  {
    depth: [0, 'u16'],
    root: [2, 'u32'],
    leafRecords: [6, 'u32'],
    firstLeaf: [10, 'u32'],
    lastLeaf: [14, 'u32'],
    nodeSize: [18, 'u16'],
    maxKey: [20, 'u16'],
    totalNodes: [22, 'u32'],
    freeNodes: [26, 'u32'],
    clump: [32, 'u32'],
    kind: [36, 'u8'],
    compare: [37, 'u8'],
    attributes: [38, 'u32'],
  },
  'big',
)

export const NODE_LEAF = -1
export const NODE_INDEX = 0
export const NODE_HEADER = 1

export const RECORD_FOLDER = 1
export const RECORD_FILE = 2
export const RECORD_FOLDER_THREAD = 3

/** "Catalog File Data": folder and file records as far as they are read here. */
export const FOLDER_RECORD = defineStruct(
  'HFS+ folder',
  88,
  { type: [0, 'u16'], valence: [4, 'u32'], id: [8, 'u32'] },
  'big',
)
export const FILE_RECORD = defineStruct(
  'HFS+ file',
  248,
  { type: [0, 'u16'], id: [8, 'u32'], mode: [42, 'u16'] },
  'big',
)
export const FILE_DATA_FORK = 88
export const FILE_RESOURCE_FORK = 168

/** "Fork type" in a key of the extents file. */
export const FORK_TYPES = { data: 0, resource: 0xff } as const

/** "Attributes File": a record whose content has a fork of its own, and one with more of its runs; both at byte 8. */
export const ATTRIBUTE_FORK = 0x10
export const ATTRIBUTE_EXTENTS = 0x20
export const ATTRIBUTE_RUNS = 8

export const ID = {
  rootParent: 1,
  root: 2,
  extents: 3,
  catalog: 4,
  badBlocks: 5,
  allocation: 6,
  startup: 7,
  attributes: 8,
  firstUser: 16,
} as const
