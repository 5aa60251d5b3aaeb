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

/** The steps of a range whose chunks are among `kept`, in order; what lies between them is not walked. */
export function stepsAmong<T>(
  kept: ReadonlyMap<number, T>,
  offset: number,
  length: number,
): (ChunkStep & { kept: T })[] {
  const end = offset + length
  const first = Math.floor(offset / CHUNK_BYTES)
  const count = Math.ceil(end / CHUNK_BYTES) - first
  const indexes: number[] = []
  if (kept.size < count) {
    for (const index of kept.keys()) if (index >= first && index < first + count) indexes.push(index)
    indexes.sort((a, b) => a - b)
  } else {
    for (let index = first; index < first + count; index++) if (kept.has(index)) indexes.push(index)
  }
  return indexes.map((index) => {
    const start = index * CHUNK_BYTES
    const from = Math.max(0, offset - start)
    return { index, from, to: Math.min(CHUNK_BYTES, end - start), at: start + from - offset, kept: kept.get(index)! }
  })
}

/** The places of steps in bytes, joined where they touch. */
export function extentsOfSteps(steps: Iterable<ChunkStep>): Extent[] {
  const extents: { offset: number; length: number }[] = []
  for (const { index, from, to } of steps) {
    const start = index * CHUNK_BYTES + from
    const last = extents.at(-1)
    if (last && last.offset + last.length === start) last.length += to - from
    else extents.push({ offset: start, length: to - from })
  }
  return extents
}
