import { defineStruct } from '../bytes/struct'

/** One record of an MBR or of an extended boot record: UEFI 2.10, table 5.2. */
export const MBR_RECORD = defineStruct('MBR record', 16, {
  status: [0, 'u8'],
  firstChs: [1, ['bytes', 3]],
  type: [4, 'u8'],
  lastChs: [5, ['bytes', 3]],
  firstLba: [8, 'u32'],
  sectors: [12, 'u32'],
})

/** What surrounds the four records: UEFI 2.10, table 5.1. */
export const MBR_SECTOR = defineStruct('MBR', 512, {
  bootCode: [0, ['bytes', 440]],
  diskSignature: [440, 'u32'],
  signature: [510, 'u16'],
})

export const MBR_SIGNATURE = 0xaa55
export const MBR_SIGNATURE_OFFSET = 510
export const MBR_RECORDS_OFFSET = 446
export const STATUS_ACTIVE = 0x80

/** Sectors that an MBR can count. */
export const MBR_SECTORS = 2 ** 32 - 1

/** Partition types of an MBR that this program knows by number. */
export const MBR_TYPES = {
  fat12: 0x01,
  fat16Small: 0x04,
  extended: 0x05,
  fat16: 0x06,
  ntfs: 0x07,
  fat32: 0x0b,
  fat32Lba: 0x0c,
  fat16Lba: 0x0e,
  extendedLba: 0x0f,
  recovery: 0x27,
  linuxSwap: 0x82,
  linux: 0x83,
  linuxExtended: 0x85,
  linuxLvm: 0x8e,
  hfs: 0xaf,
  protective: 0xee,
  efiSystem: 0xef,
} as const

export const EXTENDED_TYPES: readonly number[] = [MBR_TYPES.extended, MBR_TYPES.extendedLba, MBR_TYPES.linuxExtended]
