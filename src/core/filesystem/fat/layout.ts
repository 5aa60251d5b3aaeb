import { defineStruct } from '../../bytes/struct'

// FAT32 as in the published FAT file system specification, version 1.03. Offsets in bytes.

export const BOOT_SECTOR = defineStruct('FAT boot sector', 512, {
  jump: [0, ['bytes', 3]],
  oemName: [3, ['ascii', 8]],
  bytesPerSector: [11, 'u16'],
  sectorsPerCluster: [13, 'u8'],
  reservedSectors: [14, 'u16'],
  fatCount: [16, 'u8'],
  rootEntries: [17, 'u16'],
  totalSectors16: [19, 'u16'],
  media: [21, 'u8'],
  fatSectors16: [22, 'u16'],
  sectorsPerTrack: [24, 'u16'],
  heads: [26, 'u16'],
  hiddenSectors: [28, 'u32'],
  totalSectors: [32, 'u32'],
  fatSectors: [36, 'u32'],
  rootCluster: [44, 'u32'],
  informationSector: [48, 'u16'],
  backupBootSector: [50, 'u16'],
  driveNumber: [64, 'u8'],
  state: [65, 'u8'],
  bootSignature: [66, 'u8'],
  serial: [67, 'u32'],
  label: [71, ['ascii', 11]],
  typeName: [82, ['ascii', 8]],
  signature: [510, 'u16'],
})

/** Where FAT12 and FAT16 keep what FAT32 has from byte 36 on (section 3.2). */
export const BOOT_SECTOR_16 = defineStruct('FAT boot sector', 512, {
  state: [37, 'u8'],
  bootSignature: [38, 'u8'],
  serial: [39, 'u32'],
  label: [43, ['ascii', 11]],
  typeName: [54, ['ascii', 8]],
})

export const INFORMATION_SECTOR = defineStruct('FAT information sector', 512, {
  leadSignature: [0, 'u32'],
  structSignature: [484, 'u32'],
  freeClusters: [488, 'u32'],
  nextFree: [492, 'u32'],
  trailSignature: [508, 'u32'],
})

export const DIRECTORY_ENTRY = defineStruct('FAT directory entry', 32, {
  name: [0, ['ascii', 11]],
  attributes: [11, 'u8'],
  caseFlags: [12, 'u8'],
  createdTime: [14, 'u16'],
  createdDate: [16, 'u16'],
  accessedDate: [18, 'u16'],
  clusterHigh: [20, 'u16'],
  modifiedTime: [22, 'u16'],
  modifiedDate: [24, 'u16'],
  clusterLow: [26, 'u16'],
  size: [28, 'u32'],
})

export const LONG_NAME_ENTRY = defineStruct('FAT long name entry', 32, {
  order: [0, 'u8'],
  first: [1, ['bytes', 10]],
  attributes: [11, 'u8'],
  checksum: [13, 'u8'],
  second: [14, ['bytes', 12]],
  third: [28, ['bytes', 4]],
})

export const ATTRIBUTE_LONG_NAME = 0x0f
export const ATTRIBUTE_VOLUME = 0x08
export const ATTRIBUTE_DIRECTORY = 0x10
export const ATTRIBUTE_ARCHIVE = 0x20
export const LAST_LONG_ENTRY = 0x40
export const CASE_LOWER_BASE = 0x08
export const CASE_LOWER_EXTENSION = 0x10

export const FIRST_CLUSTER = 2
export type FatBits = 12 | 16 | 32
/** Of a table entry: the bits that count, and the first of the values that stand for something else. */
export const ENTRY_MASK: Record<FatBits, number> = { 12: 0xfff, 16: 0xffff, 32: 0x0fffffff }
export const BAD_CLUSTER: Record<FatBits, number> = { 12: 0xff7, 16: 0xfff7, 32: 0x0ffffff7 }
export const END_OF_CHAIN: Record<FatBits, number> = { 12: 0xff8, 16: 0xfff8, 32: 0x0ffffff8 }
/** Set in the second table entry when the volume was closed properly, and while no read or write error is noted. */
export const CLEAN_BIT: Record<FatBits, number> = { 12: 0, 16: 0x8000, 32: 0x08000000 }
export const NO_ERROR_BIT: Record<FatBits, number> = { 12: 0, 16: 0x4000, 32: 0x04000000 }
/** Systems also note an open volume in the boot sector. */
export const STATE_DIRTY = 1
/** Fewer clusters than these make a FAT12 or FAT16 by definition (section 3.5). */
export const FAT16_MIN_CLUSTERS = 4085
export const FAT32_MIN_CLUSTERS = 65525
/** The specification limits a directory to 2 MiB. */
export const MAX_DIRECTORY_BYTES = 2 * 1024 * 1024

/** The sum of a short name that ties long-name entries to it (section 7.2). */
export function shortNameChecksum(name: Uint8Array): number {
  let sum = 0
  for (const byte of name) sum = (((sum & 1) << 7) + (sum >> 1) + byte) & 0xff
  return sum
}
