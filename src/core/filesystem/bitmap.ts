import type { Extent } from '../block/device'
import { sameBytes } from '../bytes/same'

/** Fills `into` with the bytes of a bitmap from byte `offset` on. */
export type BitmapReader = (offset: number, into: Uint8Array) => Promise<void>

const PIECE = 512 * 1024
/** Pieces that are read while one is looked through. */
const AHEAD = 4
/** Runs of so much are listed at once: a bitmap of every other bit has very many of them. */
const LIST_BYTES = 64 * 1024

/**
 * The runs of set bits in a bitmap, lowest bit of a byte first, as runs of units (`offset` and `length`
 * in bits). Reads a piece at a time, so a bitmap of any size costs the same memory.
 */
export async function* setBitRuns(read: BitmapReader, bits: number): AsyncGenerator<Extent> {
  for await (const runs of setBitLists(read, bits)) yield* runs
}

/** The same as lists of runs, for callers that make something else of each: a list costs one step, not one for each run. */
export async function* setBitLists(read: BitmapReader, bits: number): AsyncGenerator<Extent[]> {
  let open: { offset: number; length: number } | undefined
  for await (const { from, bytes } of piecesOf(read, Math.ceil(bits / 8))) {
    for (let at = 0; at < bytes.length; at += LIST_BYTES) {
      const first = (from + at) * 8
      const part = bytes.subarray(at, at + LIST_BYTES)
      const done: Extent[] = []
      for (const run of bitRunsOf(part, Math.min(part.length * 8, bits - first))) {
        // A run that goes on over the edge of a part is one run.
        if (open && open.offset + open.length === first + run.offset) open.length += run.length
        else {
          if (open) done.push(open)
          open = { offset: first + run.offset, length: run.length }
        }
      }
      if (done.length > 0) yield done
    }
  }
  if (open) yield [open]
}

/** A bitmap piece by piece: the next ones are read while one is looked through. */
async function* piecesOf(read: BitmapReader, total: number): AsyncGenerator<{ from: number; bytes: Uint8Array }> {
  const free: Uint8Array[] = []
  const underway: { from: number; bytes: Uint8Array; reading: Promise<void> }[] = []
  const start = (from: number) => {
    const bytes = (free.pop() ?? new Uint8Array(Math.min(PIECE, total))).subarray(0, Math.min(PIECE, total - from))
    const reading = read(from, bytes)
    // It may fail before anybody waits for it; whoever comes to wait still hears of it.
    reading.catch(() => {})
    underway.push({ from, bytes, reading })
  }
  let at = 0
  try {
    for (;;) {
      for (; underway.length < AHEAD && at < total; at += PIECE) start(at)
      const piece = underway.shift()
      if (!piece) return
      await piece.reading
      yield piece
      free.push(piece.bytes)
    }
  } finally {
    // Whoever leaves before the end may close what is read from; how the last readings end is no matter then.
    await Promise.allSettled(underway.map(({ reading }) => reading))
  }
}

/** The runs of set bits among the first `bits` of a bitmap in memory. */
export function bitRunsOf(bytes: Uint8Array, bits: number): Extent[] {
  const runs: Extent[] = []
  const whole = Math.floor(bits / 8)
  let start = -1
  const take = (at: number, count: number) => {
    const byte = bytes[at]
    for (let bit = 0; bit < count; bit++) {
      const set = (byte >> bit) & 1
      if (set && start < 0) start = at * 8 + bit
      else if (!set && start >= 0) {
        runs.push({ offset: start, length: at * 8 + bit - start })
        start = -1
      }
    }
  }
  // Most of a bitmap is all ones or all zeros, which is skipped as what it is.
  for (let at = 0; (at = skipBytes(bytes, at, whole, start < 0 ? 0 : 0xff)) < whole; at++) take(at, 8)
  if (bits % 8 > 0) take(whole, bits % 8)
  if (start >= 0) runs.push({ offset: start, length: bits - start })
  return runs
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
  return ((bytes[Math.floor(bit / 8)] >> (bit % 8)) & 1) === 1
}

/** The first bit from `from` on, before `end`, that is set, or is not; `end` where there is none. */
export function nextBit(bytes: Uint8Array, from: number, end: number, set: boolean): number {
  const skip = set ? 0 : 0xff
  let bit = from
  while (bit < end) {
    const byte = Math.floor(bit / 8)
    if (bit % 8 === 0 && bytes[byte] === skip)
      bit = 8 * skipBytes(bytes, byte, Math.min(bytes.length, Math.ceil(end / 8)), skip)
    else if (bitIsSet(bytes, bit) === set) return bit
    else bit++
  }
  return end
}

/** So many bytes are looked at one by one before more of them are compared at once, which costs as much as that. */
const NEAR_BYTES = 64
/** So many are compared at once. */
const FAR_BYTES = 4096
const [ZEROS, ONES] = [new Uint8Array(FAR_BYTES), new Uint8Array(FAR_BYTES).fill(0xff)]

/** The first byte from `at` on, before `end`, that is another. */
function skipBytes(bytes: Uint8Array, at: number, end: number, skip: 0 | 0xff): number {
  const near = Math.min(end, at + NEAR_BYTES)
  let i = at
  while (i < near && bytes[i] === skip) i++
  if (i < near) return i
  const alike = skip === 0 ? ZEROS : ONES
  while (i + FAR_BYTES <= end && sameBytes(bytes.subarray(i, i + FAR_BYTES), alike)) i += FAR_BYTES
  while (i < end && (bytes.byteOffset + i) % 4 !== 0 && bytes[i] === skip) i++
  if ((bytes.byteOffset + i) % 4 === 0) {
    const words = new Int32Array(bytes.buffer, bytes.byteOffset + i, Math.floor((end - i) / 4))
    const same = skip === 0 ? 0 : -1
    let word = 0
    // Four at once where they go on, which costs hardly more than one.
    const four = words.length - 3
    if (skip === 0)
      while (word < four && (words[word] | words[word + 1] | words[word + 2] | words[word + 3]) === 0) word += 4
    else while (word < four && (words[word] & words[word + 1] & words[word + 2] & words[word + 3]) === -1) word += 4
    while (word < words.length && words[word] === same) word++
    i += word * 4
  }
  while (i < end && bytes[i] === skip) i++
  return i
}

/** True when all of `count` bits from `first` are set. */
export function rangeIsSet(bytes: Uint8Array, first: number, count: number): boolean {
  let bit = first
  const end = first + count
  if (end > bytes.length * 8) return false
  for (; bit < end && bit % 8 !== 0; bit++) if (!bitIsSet(bytes, bit)) return false
  for (; bit + 8 <= end; bit += 8) if (bytes[bit / 8] !== 0xff) return false
  for (; bit < end; bit++) if (!bitIsSet(bytes, bit)) return false
  return true
}

// A volume may have more clusters than fit in 31 bits, so places are divided and not shifted.
function setBit(bytes: Uint8Array, bit: number, set: boolean): void {
  if (set) bytes[Math.floor(bit / 8)] |= 1 << (bit % 8)
  else bytes[Math.floor(bit / 8)] &= ~(1 << (bit % 8))
}
