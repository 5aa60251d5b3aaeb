import { defineStruct } from '../bytes/struct'

// The published Virtual Hard Disk image format specification, version 1.0. All numbers are big-endian.

/** "Hard Disk Footer Format". */
export const FOOTER = defineStruct(
  'VHD footer',
  512,
  {
    cookie: [0, ['ascii', 8]],
    features: [8, 'u32'],
    version: [12, 'u32'],
    dataOffset: [16, 'bits64'],
    time: [24, 'u32'],
    creator: [28, ['ascii', 4]],
    creatorVersion: [32, 'u32'],
    creatorHost: [36, ['ascii', 4]],
    originalSize: [40, 'u64'],
    currentSize: [48, 'u64'],
    cylinders: [56, 'u16'],
    heads: [58, 'u8'],
    sectors: [59, 'u8'],
    type: [60, 'u32'],
    checksum: [64, 'u32'],
    uuid: [68, 'uuid'],
    savedState: [84, 'u8'],
  },
  'big',
)

/** "Dynamic Disk Header Format". */
export const HEADER = defineStruct(
  'VHD dynamic header',
  1024,
  {
    cookie: [0, ['ascii', 8]],
    dataOffset: [8, 'bits64'],
    tableOffset: [16, 'u64'],
    version: [24, 'u32'],
    tableEntries: [28, 'u32'],
    blockSize: [32, 'u32'],
    checksum: [36, 'u32'],
    parentUuid: [40, 'uuid'],
    parentTime: [56, 'u32'],
    parentName: [64, ['bytes', 512]],
  },
  'big',
)

/** "Parent Locator Entry": eight of them from byte 576 of the header. */
export const LOCATOR = defineStruct(
  'VHD parent locator',
  24,
  { code: [0, ['ascii', 4]], space: [4, 'u32'], length: [8, 'u32'], offset: [16, 'u64'] },
  'big',
)
export const LOCATORS_OFFSET = 576

export const FOOTER_COOKIE = 'conectix'
export const HEADER_COOKIE = 'cxsparse'
export const TYPE = { fixed: 2, dynamic: 3, differencing: 4 } as const
export const NO_OFFSET = 0xffffffffffffffffn
export const UNUSED = 0xffffffff
/** Seconds between 1970 and 2000, from which a footer counts. */
export const EPOCH = 946_684_800
export const BLOCK_BYTES = 2 * 1024 * 1024
/** What 32-bit sector offsets and the systems that read them allow. */
export const MAX_BYTES = 2040 * 1024 ** 3

/** One's complement of the sum of all bytes, the checksum's own left out. */
export function checksumOf(bytes: Uint8Array, checksumAt: number): number {
  let sum = 0
  for (let i = 0; i < bytes.length; i++) if (i < checksumAt || i >= checksumAt + 4) sum += bytes[i]
  return ~sum >>> 0
}

/** "CHS Calculation" of the specification's appendix. */
export function chsOf(sizeBytes: number): { cylinders: number; heads: number; sectors: number } {
  const total = Math.min(Math.floor(sizeBytes / 512), 65535 * 16 * 255)
  if (total >= 65535 * 16 * 63) return { cylinders: Math.floor(total / 255 / 16), heads: 16, sectors: 255 }
  let sectors = 17
  let cylindersTimesHeads = Math.floor(total / sectors)
  let heads = Math.max(4, Math.ceil(cylindersTimesHeads / 1024))
  if (cylindersTimesHeads >= heads * 1024 || heads > 16) {
    sectors = 31
    heads = 16
    cylindersTimesHeads = Math.floor(total / sectors)
  }
  if (cylindersTimesHeads >= heads * 1024) {
    sectors = 63
    heads = 16
    cylindersTimesHeads = Math.floor(total / sectors)
  }
  return { cylinders: Math.floor(cylindersTimesHeads / heads), heads, sectors }
}
