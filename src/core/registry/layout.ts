import { defineStruct } from '../bytes/struct'

// The registry hive as its long-standing public descriptions lay it out. Offsets in bytes.

export const HIVE_HEADER = defineStruct('registry hive', 512, {
  signature: [0, ['ascii', 4]],
  sequence1: [4, 'u32'],
  sequence2: [8, 'u32'],
  modified: [12, 'bits64'],
  major: [20, 'u32'],
  minor: [24, 'u32'],
  type: [28, 'u32'],
  format: [32, 'u32'],
  root: [36, 'u32'],
  binsBytes: [40, 'u32'],
  clustering: [44, 'u32'],
  fileName: [48, ['utf16', 32]],
  checksum: [508, 'u32'],
})

export const BIN_HEADER = defineStruct('hive bin', 32, {
  signature: [0, ['ascii', 4]],
  offset: [4, 'u32'],
  size: [8, 'u32'],
  modified: [20, 'bits64'],
})

export const KEY_NODE = defineStruct('registry key', 76, {
  signature: [0, ['ascii', 2]],
  flags: [2, 'u16'],
  modified: [4, 'bits64'],
  parent: [16, 'u32'],
  subkeyCount: [20, 'u32'],
  volatileCount: [24, 'u32'],
  subkeys: [28, 'u32'],
  volatileSubkeys: [32, 'u32'],
  valueCount: [36, 'u32'],
  values: [40, 'u32'],
  security: [44, 'u32'],
  className: [48, 'u32'],
  longestSubkey: [52, 'u32'],
  longestValueName: [60, 'u32'],
  longestValue: [64, 'u32'],
  nameLength: [72, 'u16'],
  classLength: [74, 'u16'],
})

/** A security descriptor that keys share, in a ring with the others; `keys` counts those that have it. */
export const SECURITY = defineStruct('registry security', 20, {
  signature: [0, ['ascii', 2]],
  next: [4, 'u32'],
  previous: [8, 'u32'],
  keys: [12, 'u32'],
  length: [16, 'u32'],
})

export const VALUE = defineStruct('registry value', 20, {
  signature: [0, ['ascii', 2]],
  nameLength: [2, 'u16'],
  dataLength: [4, 'u32'],
  data: [8, 'u32'],
  type: [12, 'u32'],
  flags: [16, 'u16'],
})

export const HEADER_BYTES = 4096
export const NONE = 0xffffffff
export const KEY_ROOT = 0x04
export const KEY_FIXED = 0x08
export const KEY_ASCII_NAME = 0x20
export const VALUE_ASCII_NAME = 0x01
/** The data stands in the offset's own four bytes. */
export const DATA_INLINE = 0x80000000
/** Longer data stands in a list of parts. */
export const LONGEST_PLAIN = 16344

export const VALUE_TYPES = { text: 1, expandable: 2, binary: 3, number: 4, texts: 7, number64: 11 } as const

/** The exclusive-or of the first 127 words of the header. */
export function headerChecksum(header: Uint8Array): number {
  const view = new DataView(header.buffer, header.byteOffset)
  let sum = 0
  for (let at = 0; at < 508; at += 4) sum ^= view.getUint32(at, true)
  sum >>>= 0
  return sum === 0xffffffff ? 0xfffffffe : sum === 0 ? 1 : sum
}
