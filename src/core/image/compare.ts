import type { BlockDevice, Extent } from '../block/device'
import { unionExtents } from '../block/extents'

const PIECE_BYTES = 4 * 1024 * 1024
const WINDOW_BYTES = 1024 * 1024 * 1024
/** Differences closer than this are told as one. */
const GAP = 4096
/** So many differences are told by their places; the rest are only counted. */
export const MOST_RANGES = 1000

export interface Comparison {
  /** The same size and the same bytes. */
  readonly equal: boolean
  readonly sizes: readonly [number, number]
  /** Byte of the disk, or null where all that both have is the same. */
  readonly firstDifference: number | null
  readonly differingBytes: number
  /** Where they differ, in order, at most MOST_RANGES of them. */
  readonly ranges: readonly Extent[]
  readonly moreRanges: boolean
}

/**
 * Compares two disks byte by byte as far as both reach. What neither holds is not read. Rejects as the devices do,
 * or with the signal's reason.
 */
export async function compareDevices(
  a: BlockDevice,
  b: BlockDevice,
  options: { signal?: AbortSignal; onProgress?: (doneBytes: number, totalBytes: number) => void } = {},
): Promise<Comparison> {
  const sector = Math.max(a.logicalSectorSize, b.logicalSectorSize)
  const common = Math.floor(Math.min(a.size, b.size) / sector) * sector
  const ranges: { offset: number; length: number }[] = []
  let moreRanges = false
  let differingBytes = 0
  let firstDifference: number | null = null
  const left = new Uint8Array(PIECE_BYTES)
  const right = new Uint8Array(PIECE_BYTES)
  for (let window = 0; window < common; window += WINDOW_BYTES) {
    const length = Math.min(WINDOW_BYTES, common - window)
    for (const extent of unionExtents(await mappedOf(a, window, length), await mappedOf(b, window, length))) {
      const from = Math.floor(extent.offset / sector) * sector
      const to = Math.min(common, Math.ceil((extent.offset + extent.length) / sector) * sector)
      for (let at = from; at < to; at += PIECE_BYTES) {
        options.signal?.throwIfAborted()
        const bytes = Math.min(PIECE_BYTES, to - at)
        const [x, y] = [left.subarray(0, bytes), right.subarray(0, bytes)]
        await Promise.all([a.read(at, x), b.read(at, y)])
        note(at, x, y)
        options.onProgress?.(at + bytes, common)
      }
    }
  }
  const equal = a.size === b.size && firstDifference === null
  return { equal, sizes: [a.size, b.size], firstDifference, differingBytes, ranges, moreRanges }

  function note(at: number, x: Uint8Array, y: Uint8Array): void {
    const words = Math.floor(x.length / 4)
    const [xw, yw] = [new Int32Array(x.buffer, 0, words), new Int32Array(y.buffer, 0, words)]
    for (let w = 0; w < words; w++) {
      if (xw[w] === yw[w]) continue
      for (let i = w * 4; i < w * 4 + 4; i++) {
        if (x[i] === y[i]) continue
        firstDifference ??= at + i
        differingBytes++
        const last = ranges.at(-1)
        if (last && at + i - (last.offset + last.length) < GAP) last.length = at + i + 1 - last.offset
        else if (ranges.length < MOST_RANGES) ranges.push({ offset: at + i, length: 1 })
        else moreRanges = true
      }
    }
  }
}

async function mappedOf(device: BlockDevice, offset: number, length: number): Promise<readonly Extent[]> {
  return device.mapped ? device.mapped(offset, length) : [{ offset, length }]
}
