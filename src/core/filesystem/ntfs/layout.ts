import { defineStruct } from '../../bytes/struct'

// The structures of NTFS 3.1, from its long-standing public descriptions. Offsets in bytes.

export const BOOT_SECTOR = defineStruct('NTFS boot sector', 512, {
  jump: [0, ['bytes', 3]],
  oemId: [3, ['ascii', 8]],
  bytesPerSector: [11, 'u16'],
  sectorsPerCluster: [13, 'u8'],
  media: [21, 'u8'],
  sectorsPerTrack: [24, 'u16'],
  heads: [26, 'u16'],
  hiddenSectors: [28, 'u32'],
  physicalDrive: [36, 'u32'],
  totalSectors: [40, 'u64'],
  mftLcn: [48, 'u64'],
  mftMirrorLcn: [56, 'u64'],
  clustersPerRecord: [64, 'i8'],
  clustersPerIndexBlock: [68, 'i8'],
  serial: [72, 'bits64'],
  signature: [510, 'u16'],
})

export const FILE_RECORD = defineStruct('file record', 48, {
  magic: [0, ['ascii', 4]],
  usaOffset: [4, 'u16'],
  usaCount: [6, 'u16'],
  logSequence: [8, 'bits64'],
  sequence: [16, 'u16'],
  linkCount: [18, 'u16'],
  attributesOffset: [20, 'u16'],
  flags: [22, 'u16'],
  bytesInUse: [24, 'u32'],
  bytesAllocated: [28, 'u32'],
  baseRecord: [32, 'bits64'],
  nextAttributeId: [40, 'u16'],
  recordNumber: [44, 'u32'],
})

export const ATTRIBUTE = defineStruct('attribute', 16, {
  type: [0, 'u32'],
  length: [4, 'u32'],
  nonResident: [8, 'u8'],
  nameLength: [9, 'u8'],
  nameOffset: [10, 'u16'],
  flags: [12, 'u16'],
  id: [14, 'u16'],
})

/** Continues ATTRIBUTE when the value lies in the record. */
export const RESIDENT = defineStruct('resident attribute', 24, {
  valueLength: [16, 'u32'],
  valueOffset: [20, 'u16'],
  indexed: [22, 'u8'],
})

/** Continues ATTRIBUTE when the value lies in clusters. */
export const NON_RESIDENT = defineStruct('non-resident attribute', 64, {
  lowestVcn: [16, 'u64'],
  highestVcn: [24, 'bits64'],
  runsOffset: [32, 'u16'],
  compressionUnit: [34, 'u8'],
  allocatedSize: [40, 'u64'],
  dataSize: [48, 'u64'],
  initializedSize: [56, 'u64'],
})

export const ATTRIBUTE_LIST_ENTRY = defineStruct('attribute list entry', 26, {
  type: [0, 'u32'],
  length: [4, 'u16'],
  nameLength: [6, 'u8'],
  nameOffset: [7, 'u8'],
  lowestVcn: [8, 'u64'],
  record: [16, 'bits64'],
  id: [24, 'u16'],
})

export const STANDARD_INFORMATION = defineStruct('standard information', 72, {
  created: [0, 'bits64'],
  modified: [8, 'bits64'],
  recordChanged: [16, 'bits64'],
  accessed: [24, 'bits64'],
  fileAttributes: [32, 'u32'],
  securityId: [52, 'u32'],
})

export const FILE_NAME = defineStruct('file name', 66, {
  parent: [0, 'bits64'],
  created: [8, 'bits64'],
  modified: [16, 'bits64'],
  recordChanged: [24, 'bits64'],
  accessed: [32, 'bits64'],
  allocatedSize: [40, 'u64'],
  dataSize: [48, 'u64'],
  fileAttributes: [56, 'u32'],
  nameLength: [64, 'u8'],
  namespace: [65, 'u8'],
})

export const VOLUME_INFORMATION = defineStruct('volume information', 12, {
  major: [8, 'u8'],
  minor: [9, 'u8'],
  flags: [10, 'u16'],
})

/** The value of an index root, before its index header. */
export const INDEX_ROOT = defineStruct('index root', 16, {
  attributeType: [0, 'u32'],
  collation: [4, 'u32'],
  blockSize: [8, 'u32'],
  clustersPerBlock: [12, 'u8'],
})

export const INDEX_BLOCK = defineStruct('index block', 24, {
  magic: [0, ['ascii', 4]],
  usaOffset: [4, 'u16'],
  usaCount: [6, 'u16'],
  logSequence: [8, 'bits64'],
  vcn: [16, 'u64'],
})

/** Follows INDEX_ROOT and INDEX_BLOCK; offsets in it count from its own first byte. */
export const INDEX_HEADER = defineStruct('index header', 16, {
  entriesOffset: [0, 'u32'],
  totalSize: [4, 'u32'],
  allocatedSize: [8, 'u32'],
  flags: [12, 'u8'],
})

export const INDEX_ENTRY = defineStruct('index entry', 16, {
  reference: [0, 'bits64'],
  length: [8, 'u16'],
  keyLength: [10, 'u16'],
  flags: [12, 'u16'],
})

export const ATTRIBUTE_TYPES = {
  standardInformation: 0x10,
  attributeList: 0x20,
  fileName: 0x30,
  securityDescriptor: 0x50,
  volumeName: 0x60,
  volumeInformation: 0x70,
  data: 0x80,
  indexRoot: 0x90,
  indexAllocation: 0xa0,
  bitmap: 0xb0,
  reparsePoint: 0xc0,
  end: 0xffffffff,
} as const

export const RECORDS = {
  mft: 0,
  mftMirror: 1,
  logFile: 2,
  volume: 3,
  attrDef: 4,
  root: 5,
  bitmap: 6,
  boot: 7,
  badClusters: 8,
  secure: 9,
  upCase: 10,
  extend: 11,
  /** From here on to the first file, records are kept for the file table's own lists. */
  firstReserved: 16,
  firstUser: 24,
} as const

export const RECORD_IN_USE = 1
export const RECORD_IS_DIRECTORY = 2
export const ENTRY_HAS_SUBNODE = 1
export const ENTRY_IS_LAST = 2
export const ATTRIBUTE_COMPRESSED = 0x0001
export const ATTRIBUTE_ENCRYPTED = 0x4000
export const VOLUME_DIRTY = 0x0001
export const NAMESPACE_DOS = 2
/** FILE_NAME file attribute bit that says: this is a directory. */
export const FILE_ATTRIBUTE_DIRECTORY_INDEX = 0x10000000

/** Record number of a 64-bit file reference; the upper 16 bits are the sequence. */
export function recordOf(reference: bigint): number {
  return Number(reference & 0xffffffffffffn)
}
