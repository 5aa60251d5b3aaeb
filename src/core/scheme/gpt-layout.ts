import { defineStruct } from '../bytes/struct'

/** GPT header: UEFI 2.10, table 5.5. */
export const GPT_HEADER = defineStruct('GPT header', 92, {
  signature: [0, ['ascii', 8]],
  revision: [8, 'u32'],
  headerSize: [12, 'u32'],
  headerCrc: [16, 'u32'],
  myLba: [24, 'u64'],
  alternateLba: [32, 'u64'],
  firstUsableLba: [40, 'u64'],
  lastUsableLba: [48, 'u64'],
  diskGuid: [56, 'guid'],
  entriesLba: [72, 'u64'],
  entryCount: [80, 'u32'],
  entrySize: [84, 'u32'],
  entriesCrc: [88, 'u32'],
})

/** GPT partition entry: UEFI 2.10, table 5.6. */
export const GPT_ENTRY = defineStruct('GPT entry', 128, {
  typeGuid: [0, 'guid'],
  guid: [16, 'guid'],
  firstLba: [32, 'u64'],
  lastLba: [40, 'u64'],
  attributes: [48, 'bits64'],
  name: [56, ['utf16', 36]],
})

export const GPT_SIGNATURE = 'EFI PART'
export const GPT_REVISION = 0x00010000

/** The specification asks for at least 16 KiB of entries; a table of this module has exactly the usual 128. */
export const ENTRY_COUNT = 128
export const ENTRY_SIZE = 128
