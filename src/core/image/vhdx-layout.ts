import { defineStruct } from '../bytes/struct'

// The published VHDX format specification (MS-VHDX). Offsets in bytes, numbers little-endian.

export const KIB64 = 64 * 1024
export const MIB = 1024 * 1024

/** Section 2.2.2. */
export const HEADER = defineStruct('VHDX header', 4096, {
  signature: [0, ['ascii', 4]],
  checksum: [4, 'u32'],
  sequence: [8, 'bits64'],
  fileWriteGuid: [16, 'guid'],
  dataWriteGuid: [32, 'guid'],
  logGuid: [48, 'guid'],
  logVersion: [64, 'u16'],
  version: [66, 'u16'],
  logLength: [68, 'u32'],
  logOffset: [72, 'u64'],
})
export const HEADER_PLACES = [KIB64, 2 * KIB64]

/** Section 2.2.3. */
export const REGION_HEADER = defineStruct('VHDX region table', 16, {
  signature: [0, ['ascii', 4]],
  checksum: [4, 'u32'],
  count: [8, 'u32'],
})
export const REGION = defineStruct('VHDX region', 32, {
  id: [0, 'guid'],
  offset: [16, 'u64'],
  length: [24, 'u32'],
  required: [28, 'u32'],
})
export const REGION_PLACES = [3 * KIB64, 4 * KIB64]
export const REGIONS = {
  table: '2dc27766-f623-4200-9d64-115e9bfd4a08',
  metadata: '8b7ca206-4790-4b9a-b8fe-575f050f886e',
} as const

/** Section 2.6. */
export const METADATA_HEADER = defineStruct('VHDX metadata', 32, { signature: [0, ['ascii', 8]], count: [10, 'u16'] })
export const METADATA_ENTRY = defineStruct('VHDX metadata entry', 32, {
  id: [0, 'guid'],
  offset: [16, 'u32'],
  length: [20, 'u32'],
  flags: [24, 'u32'],
})
export const ITEMS = {
  parameters: 'caa16737-fa36-4d43-b3b6-33f0aa44e76b',
  diskSize: '2fa54224-cd1b-4876-b211-5dbed83bf4b8',
  diskId: 'beca12ab-b2e6-4523-93ef-c309e000c746',
  logicalSector: '8141bf1d-a96f-4709-ba47-f233a8faab5f',
  physicalSector: 'cda348c7-445d-4471-9cc9-e9885251c556',
  parentLocator: 'a8d35f2d-b30b-454d-abf7-d3d84834ab0c',
} as const
export const ITEM_DISK = 2
export const ITEM_REQUIRED = 4
export const HAS_PARENT = 2

/** Section 2.6.2.6. */
export const LOCATOR_HEADER = defineStruct('VHDX parent locator', 20, { type: [0, 'guid'], count: [18, 'u16'] })
export const LOCATOR_ENTRY = defineStruct('VHDX parent locator entry', 12, {
  keyOffset: [0, 'u32'],
  valueOffset: [4, 'u32'],
  keyLength: [8, 'u16'],
  valueLength: [10, 'u16'],
})

/** Section 2.3. */
export const LOG_ENTRY = defineStruct('VHDX log entry', 64, {
  signature: [0, ['ascii', 4]],
  checksum: [4, 'u32'],
  length: [8, 'u32'],
  tail: [12, 'u32'],
  sequence: [16, 'bits64'],
  count: [24, 'u32'],
  logGuid: [32, 'guid'],
  flushedFileOffset: [48, 'u64'],
  lastFileOffset: [56, 'u64'],
})
export const LOG_DESCRIPTOR = defineStruct('VHDX log descriptor', 32, {
  signature: [0, ['ascii', 4]],
  trailing: [4, ['bytes', 4]],
  /** Of a data descriptor the first eight bytes of the sector, of a zero descriptor the length. */
  leading: [8, ['bytes', 8]],
  offset: [16, 'u64'],
  sequence: [24, 'bits64'],
})
export const LOG_DATA = defineStruct('VHDX log data', 4096, {
  signature: [0, ['ascii', 4]],
  sequenceHigh: [4, 'u32'],
  data: [8, ['bytes', 4084]],
  sequenceLow: [4092, 'u32'],
})
export const LOG_SECTOR = 4096

/** Section 2.5.1.1: states of a payload block. */
export const BLOCK = { absent: 0, undefined: 1, zero: 2, unmapped: 3, present: 6, partial: 7 } as const
export const FILE_SIGNATURE = 'vhdxfile'
/** Section 2.5: payload blocks between two blocks of sector bitmaps. */
export function chunkRatio(blockSize: number, sectorSize: number): number {
  return (2 ** 23 * sectorSize) / blockSize
}
