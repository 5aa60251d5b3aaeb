import type { Extent } from './device'

/** Chunks are the grain in which memory-backed devices remember what was written. */
export const CHUNK_BYTES = 64 * 1024

/** One step of a range through chunks: chunk `index`, bytes `from`..`to` of it, `at` bytes into the range. */
export interface ChunkStep {
  readonly index: number
  readonly from: number
  readonly to: number
  readonly at: number
}

/** Walks a byte range chunk by chunk. */
export function* chunkSteps(offset: number, length: number): Generator<ChunkStep> {
  const end = offset + length
  for (let at = offset; at < end;) {
    const index = Math.floor(at / CHUNK_BYTES)
    const from = at - index * CHUNK_BYTES
    const to = Math.min(CHUNK_BYTES, end - index * CHUNK_BYTES)
    yield { index, from, to, at: at - offset }
    at = index * CHUNK_BYTES + to
  }
}

/** The parts of a range for whose chunk `holds` is true, joined where they touch. */
export function mappedChunks(offset: number, length: number, holds: (index: number) => boolean): Extent[] {
  const extents: { offset: number; length: number }[] = []
  for (const { index, from, to } of chunkSteps(offset, length)) {
    if (!holds(index)) continue
    const start = index * CHUNK_BYTES + from
    const last = extents.at(-1)
    if (last && last.offset + last.length === start) last.length += to - from
    else extents.push({ offset: start, length: to - from })
  }
  return extents
}
