import type { Extent } from '../block/device'

/** Reads `length` bytes of a bitmap from byte `offset`. */
export type BitmapReader = (offset: number, length: number) => Promise<Uint8Array>

const PIECE = 1024 * 1024

/**
 * The runs of set bits in a bitmap, lowest bit of a byte first, as runs of units (`offset` and `length`
 * in bits). Reads a piece at a time, so a bitmap of any size costs the same memory.
 */
export async function* setBitRuns(read: BitmapReader, bits: number): AsyncGenerator<Extent> {
  let start = -1
  for (let from = 0; from * 8 < bits; from += PIECE) {
    const bytes = await read(from, Math.min(PIECE, Math.ceil(bits / 8) - from))
    for (let i = 0; i < bytes.length; i++) {
      const byte = bytes[i]
      const first = (from + i) * 8
      const count = Math.min(8, bits - first)
      if (byte === 0 && start < 0) continue
      if (byte === 0xff && count === 8) {
        if (start < 0) start = first
        continue
      }
      for (let bit = 0; bit < count; bit++) {
        const set = (byte >> bit) & 1
        if (set && start < 0) start = first + bit
        if (!set && start >= 0) {
          yield { offset: start, length: first + bit - start }
          start = -1
        }
      }
    }
  }
  if (start >= 0) yield { offset: start, length: bits - start }
}

/** Sets or clears `count` bits from `first` in a bitmap held in memory. */
export function setBits(bytes: Uint8Array, first: number, count: number, set = true): void {
  let bit = first
  const end = first + count
  while (bit < end && bit % 8 !== 0) setBit(bytes, bit++, set)
  const whole = Math.floor((end - bit) / 8)
  if (whole > 0) bytes.fill(set ? 0xff : 0, bit / 8, bit / 8 + whole)
  bit += Math.max(0, whole) * 8
  while (bit < end) setBit(bytes, bit++, set)
}

/** True when the bit is set. */
export function bitIsSet(bytes: Uint8Array, bit: number): boolean {
  return ((bytes[bit >> 3] >> (bit & 7)) & 1) === 1
}

function setBit(bytes: Uint8Array, bit: number, set: boolean): void {
  if (set) bytes[bit >> 3] |= 1 << (bit & 7)
  else bytes[bit >> 3] &= ~(1 << (bit & 7))
}
