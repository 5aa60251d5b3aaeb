import { defineStruct } from '../bytes/struct'

// The published QCOW2 layout, versions 2 and 3. All numbers are big-endian.

/** "Header". Version 2 ends after byte 72. */
export const HEADER = defineStruct(
  'QCOW2 header',
  104,
  {
    magic: [0, 'u32'],
    version: [4, 'u32'],
    backingOffset: [8, 'u64'],
    backingLength: [16, 'u32'],
    clusterBits: [20, 'u32'],
    size: [24, 'u64'],
    encryption: [32, 'u32'],
    l1Size: [36, 'u32'],
    l1Offset: [40, 'u64'],
    refcountOffset: [48, 'u64'],
    refcountClusters: [56, 'u32'],
    snapshots: [60, 'u32'],
    snapshotsOffset: [64, 'u64'],
    incompatible: [72, 'bits64'],
    compatible: [80, 'bits64'],
    autoclear: [88, 'bits64'],
    refcountOrder: [96, 'u32'],
    headerLength: [100, 'u32'],
  },
  'big',
)

export const MAGIC = 0x514649fb
export const COMPRESSION_OFFSET = 104
export const COMPRESSION = { deflate: 0, zstd: 1 } as const
export const INCOMPATIBLE = { dirty: 1n, corrupt: 2n, externalData: 4n, compression: 8n, subclusters: 16n } as const
export const EXTENSION_BACKING_FORMAT = 0xe2792aca
/** Bits 9 to 55 of a table entry. */
export const OFFSET_MASK = 0x00fffffffffffe00n
export const ENTRY_COPIED = 1n << 63n
export const ENTRY_COMPRESSED = 1n << 62n
export const ENTRY_ZEROS = 1n
