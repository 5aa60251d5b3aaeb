import CRC32 from 'crc-32'
import CRC32C from 'crc-32/crc32c'

/** CRC-32 (polynomial 0x04C11DB7, as in UEFI 2.10 section 4.2) as an unsigned number. */
export function crc32(bytes: Uint8Array): number {
  return CRC32.buf(bytes) >>> 0
}

/** CRC-32C (Castagnoli, polynomial 0x1EDC6F41) as an unsigned number; `seed` is the sum of what came before. */
export function crc32c(bytes: Uint8Array, seed = 0): number {
  return CRC32C.buf(bytes, seed | 0) >>> 0
}

/** Eight upper-case hex digits in two groups, as evidence shows them. */
export function crcText(crc: number): string {
  const hex = (crc >>> 0).toString(16).toUpperCase().padStart(8, '0')
  return `${hex.slice(0, 4)} ${hex.slice(4)}`
}
