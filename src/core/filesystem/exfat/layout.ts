import { defineStruct } from '../../bytes/struct'

// The published exFAT file system specification, revision 1.00. Offsets in bytes.

/** Section 3.1. */
export const EXFAT_BOOT = defineStruct('exFAT boot sector', 512, {
  jump: [0, ['bytes', 3]],
  name: [3, ['ascii', 8]],
  partitionOffset: [64, 'bits64'],
  volumeSectors: [72, 'u64'],
  fatOffset: [80, 'u32'],
  fatSectors: [84, 'u32'],
  heapOffset: [88, 'u32'],
  clusterCount: [92, 'u32'],
  rootCluster: [96, 'u32'],
  serial: [100, 'u32'],
  revision: [104, 'u16'],
  flags: [106, 'u16'],
  sectorShift: [108, 'u8'],
  clusterShift: [109, 'u8'],
  fatCount: [110, 'u8'],
  signature: [510, 'u16'],
})

/** Section 7.1: the allocation bitmap's entry; 7.2 the up-case table's alike. */
export const BITMAP_ENTRY = defineStruct('exFAT bitmap entry', 32, {
  flags: [1, 'u8'],
  firstCluster: [20, 'u32'],
  length: [24, 'u64'],
})

/** Section 7.4. */
export const FILE_ENTRY = defineStruct('exFAT file entry', 32, {
  secondaryCount: [1, 'u8'],
  checksum: [2, 'u16'],
  attributes: [4, 'u16'],
  created: [8, 'u32'],
  modified: [12, 'u32'],
  accessed: [16, 'u32'],
  createdZone: [22, 'u8'],
  modifiedZone: [23, 'u8'],
  accessedZone: [24, 'u8'],
})

/** Section 7.6. */
export const STREAM_ENTRY = defineStruct('exFAT stream entry', 32, {
  flags: [1, 'u8'],
  nameLength: [3, 'u8'],
  nameHash: [4, 'u16'],
  validLength: [8, 'u64'],
  firstCluster: [20, 'u32'],
  length: [24, 'u64'],
})

export const ENTRY_END = 0x00
export const ENTRY_BITMAP = 0x81
export const ENTRY_UP_CASE = 0x82
export const ENTRY_LABEL = 0x83
export const ENTRY_FILE = 0x85
export const ENTRY_STREAM = 0xc0
export const ENTRY_NAME = 0xc1

export const FLAG_DIRTY = 2
export const FLAG_MEDIA_FAILURE = 4
/** The clusters of the stream follow each other, and the table is not used. */
export const STREAM_CONTIGUOUS = 2
export const ATTRIBUTE_DIRECTORY = 0x10

export const FIRST_CLUSTER = 2
export const BAD_CLUSTER = 0xfffffff7
export const END_OF_CHAIN = 0xffffffff
/** Section 7.4.3: a directory is at most 256 MiB; a survey reads no more than this of one. */
export const MAX_DIRECTORY_BYTES = 64 * 1024 * 1024
