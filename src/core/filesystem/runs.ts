import type { Extent } from '../block/device'

/**
 * Runs of used units from a series of places where the state may change, in order; each state holds until the
 * next place, the last until `end`.
 */
export async function* runExtents(
  edges: AsyncIterable<readonly [unit: number, used: boolean]>,
  end: number,
  offsetOf: (unit: number) => number,
): AsyncGenerator<Extent> {
  let start = -1
  for await (const [unit, used] of edges) {
    if (used && start < 0) start = unit
    if (!used && start >= 0) {
      yield { offset: offsetOf(start), length: offsetOf(unit) - offsetOf(start) }
      start = -1
    }
  }
  if (start >= 0) yield { offset: offsetOf(start), length: offsetOf(end) - offsetOf(start) }
}

/** A chain of clusters as runs of bytes, neighbours joined. */
export function chainExtents(
  clusters: readonly number[],
  offsetOf: (cluster: number) => number,
  clusterSize: number,
): Extent[] {
  const extents: { offset: number; length: number }[] = []
  for (const cluster of clusters) {
    const offset = offsetOf(cluster)
    const last = extents.at(-1)
    if (last && last.offset + last.length === offset) last.length += clusterSize
    else extents.push({ offset, length: clusterSize })
  }
  return extents
}
