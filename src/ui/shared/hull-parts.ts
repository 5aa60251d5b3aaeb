import { type HullPart } from './hull-geometry'

interface Placed {
  readonly firstLba: number
  readonly part: HullPart
}

/** Partitions and the room between them as parts of a hull, first sector to last. */
export function withGaps(
  partitions: readonly Placed[],
  gaps: readonly { readonly firstLba: number; readonly sizeBytes: number }[],
): HullPart[] {
  const free = gaps.map(({ firstLba, sizeBytes }): Placed => {
    return { firstLba, part: { key: `gap-${firstLba}`, title: 'Unallocated', role: 'unallocated', sizeBytes } }
  })
  return [...partitions, ...free].sort((a, b) => a.firstLba - b.firstLba).map(({ part }) => part)
}
