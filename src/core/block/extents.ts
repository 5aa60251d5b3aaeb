import type { Extent } from './device'

/**
 * Joins runs that touch, overlap or lie closer than `gap` bytes. Input in order of offset; a run that
 * begins before the last one's end is joined with it.
 */
export async function* mergeExtents(
  extents: AsyncIterable<Extent> | Iterable<Extent>,
  gap = 0,
): AsyncGenerator<Extent> {
  let start = -1
  let end = -1
  for await (const { offset, length } of extents) {
    if (start >= 0 && offset <= end + gap) {
      end = Math.max(end, offset + length)
      continue
    }
    if (start >= 0) yield { offset: start, length: end - start }
    start = offset
    end = offset + length
  }
  if (start >= 0) yield { offset: start, length: end - start }
}

/** A run in parts of at most so many bytes. */
export function* partsOf({ offset, length }: Extent, most: number): Generator<Extent> {
  for (let at = 0; at < length; at += most) yield { offset: offset + at, length: Math.min(most, length - at) }
}

/** The union of two ordered lists. */
export function unionExtents(a: readonly Extent[], b: readonly Extent[]): Extent[] {
  const sorted = [...a, ...b].sort((x, y) => x.offset - y.offset)
  const merged: { offset: number; length: number }[] = []
  for (const { offset, length } of sorted) {
    const last = merged.at(-1)
    if (last && offset <= last.offset + last.length) last.length = Math.max(last.length, offset + length - last.offset)
    else merged.push({ offset, length })
  }
  return merged
}

/** Two ordered lists as one. */
export async function* inOrder(extents: AsyncIterable<Extent>, more: readonly Extent[]): AsyncGenerator<Extent> {
  let next = 0
  for await (const extent of extents) {
    while (next < more.length && more[next].offset < extent.offset) yield more[next++]
    yield extent
  }
  yield* more.slice(next)
}

/** What two ordered lists have in common. */
export function commonExtents(a: readonly Extent[], b: readonly Extent[]): Extent[] {
  const common: Extent[] = []
  for (let i = 0, j = 0; i < a.length && j < b.length;) {
    const endOfA = a[i].offset + a[i].length
    const endOfB = b[j].offset + b[j].length
    const offset = Math.max(a[i].offset, b[j].offset)
    const length = Math.min(endOfA, endOfB) - offset
    if (length > 0) common.push({ offset, length })
    if (endOfA <= endOfB) i++
    else j++
  }
  return common
}
