import type { Role } from '@/core/survey/types'

/** A part of a drive, first sector to last: a partition or room that belongs to none. */
export interface HullPart {
  readonly key: string
  readonly title: string
  readonly role: Role | 'unallocated'
  readonly sizeBytes: number
  /** Bytes that hold something; undefined where that is not known. */
  readonly usedBytes?: number
}

/** A part with its place in the drawing, in pixels from the hull's top. */
export interface PlacedPart extends HullPart {
  readonly top: number
  readonly height: number
}

/** The least height at which a part can be told and named. */
export const LEGIBLE = 21

/**
 * Stacks parts in a hull of `height` pixels. To scale, heights are as the sizes; legible, no part is lower than
 * LEGIBLE and the others share the rest as their sizes are.
 */
export function placeParts(parts: readonly HullPart[], height: number, scale: 'legible' | 'true'): PlacedPart[] {
  const heights = scale === 'true' ? proportional(parts, height) : legible(parts, height)
  let top = 0
  return parts.map((part, i) => {
    const placed = { ...part, top, height: heights[i] }
    top += heights[i]
    return placed
  })
}

/** Height of the water in a part: what is used of it. */
export function waterHeight(part: PlacedPart): number {
  if (part.usedBytes === undefined || part.sizeBytes === 0) return 0
  return Math.min(1, part.usedBytes / part.sizeBytes) * part.height
}

function proportional(parts: readonly HullPart[], height: number): number[] {
  const total = parts.reduce((sum, part) => sum + part.sizeBytes, 0)
  return parts.map((part) => (total > 0 ? (part.sizeBytes / total) * height : 0))
}

function legible(parts: readonly HullPart[], height: number): number[] {
  const small = new Set<number>()
  for (;;) {
    const free = height - small.size * LEGIBLE
    const total = parts.reduce((sum, part, i) => (small.has(i) ? sum : sum + part.sizeBytes), 0)
    const next = parts.findIndex((part, i) => !small.has(i) && (part.sizeBytes / total) * free < LEGIBLE)
    if (next < 0) return parts.map((part, i) => (small.has(i) ? LEGIBLE : (part.sizeBytes / total) * free))
    small.add(next)
  }
}
