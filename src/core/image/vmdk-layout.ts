import { defineStruct } from '../bytes/struct'

// The published Virtual Disk Format 5.0. Numbers are little-endian, places in sectors of 512 bytes.

/** "Hosted Sparse Extent Header". */
export const HEADER = defineStruct('VMDK header', 512, {
  magic: [0, 'u32'],
  version: [4, 'u32'],
  flags: [8, 'u32'],
  capacity: [12, 'u64'],
  grainSize: [20, 'u64'],
  descriptorOffset: [28, 'u64'],
  descriptorSize: [36, 'u64'],
  entriesPerTable: [44, 'u32'],
  redundantDirectory: [48, 'u64'],
  /** All ones where the directory is named by the footer. */
  directory: [56, 'bits64'],
  overhead: [64, 'u64'],
  uncleanShutdown: [72, 'u8'],
  /** Tells whether line ends were changed on the way: `\n`, a blank, `\r\n`. */
  lineEnds: [73, ['bytes', 4]],
  packing: [77, 'u16'],
})

export const MAGIC = 0x564d444b
export const FLAGS = { lineEnds: 1, redundant: 2, zeroGrains: 4, packed: 0x10000, markers: 0x20000 } as const
export const DEFLATE = 1
export const AT_END = 0xffffffffffffffffn
export const LINE_ENDS = Uint8Array.of(0x0a, 0x20, 0x0d, 0x0a)
export const SECTOR = 512

/** "Markers": of a grain the number of its first sector and the length of what follows; of others a length of zero and a type. */
export const MARKER = defineStruct('VMDK marker', 512, { value: [0, 'u64'], size: [8, 'u32'], type: [12, 'u32'] })
/** A packed grain follows its marker right behind the length. */
export const GRAIN_DATA_AT = 12
export const MARKERS = { end: 0, table: 1, directory: 2, footer: 3 } as const

export const ENTRIES_PER_TABLE = 512
export const GRAIN_SECTORS = 128
export const DESCRIPTOR_AT = 1
export const DESCRIPTOR_SECTORS = 20
/** What 32-bit sector numbers reach, in the file as on the disk. */
export const MOST_SECTORS = 2 ** 32 - 1
export const DESCRIPTOR_MARK = '# Disk DescriptorFile'
/** Of an image that builds on no other. */
export const NO_PARENT = 'ffffffff'
