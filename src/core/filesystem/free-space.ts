import type { Extent } from '../block/device'

/** Free units of a volume, given out so that runs stay whole where they can. */
export class FreeSpace {
  /** By length, shortest first. */
  private readonly runs: { offset: number; length: number }[]
  private left: number

  constructor(free: readonly Extent[]) {
    this.runs = free.map(({ offset, length }) => ({ offset, length })).sort((a, b) => a.length - b.length)
    this.left = this.runs.reduce((sum, run) => sum + run.length, 0)
  }

  /** Units that are left. */
  get units(): number {
    return this.left
  }

  /**
   * `count` units: of the runs that hold them all the shortest, else the longest ones until there is enough.
   * Undefined when there is not enough, and nothing is taken then.
   */
  take(count: number): Extent[] | undefined {
    if (count > this.left) return undefined
    this.left -= count
    const taken: Extent[] = []
    for (let rest = count; rest > 0;) {
      const at = this.firstHolding(rest)
      const [run] = this.runs.splice(Math.min(at, this.runs.length - 1), 1)
      const length = Math.min(rest, run.length)
      taken.push({ offset: run.offset, length })
      rest -= length
      if (run.length > length) {
        const remainder = { offset: run.offset + length, length: run.length - length }
        this.runs.splice(this.firstHolding(remainder.length), 0, remainder)
      }
    }
    return taken
  }

  private firstHolding(length: number): number {
    let low = 0
    let high = this.runs.length
    while (low < high) {
      const middle = (low + high) >> 1
      if (this.runs[middle].length >= length) high = middle
      else low = middle + 1
    }
    return low
  }
}

/** What lies between runs that are in order, from 0 to `end`. */
export function gapsOf(used: Iterable<Extent>, end: number): Extent[] {
  const gaps: Extent[] = []
  let next = 0
  for (const { offset, length } of used) {
    if (offset > next) gaps.push({ offset: next, length: Math.min(offset, end) - next })
    next = Math.max(next, offset + length)
    if (next >= end) break
  }
  if (next < end) gaps.push({ offset: next, length: end - next })
  return gaps
}

/** A stretch of units and where its first one goes. */
export interface UnitMove {
  readonly from: number
  readonly to: number
  readonly length: number
}

/** From old places to new ones. */
export class PlaceMap {
  private readonly moves: readonly UnitMove[]

  constructor(moves: readonly UnitMove[]) {
    this.moves = [...moves].sort((a, b) => a.from - b.from)
  }

  /** The stretch as pieces in their new places, in order; what is not moved stays. */
  *pieces(offset: number, length: number): Generator<{ readonly at: number; readonly length: number }> {
    const end = offset + length
    let at = offset
    for (let i = this.firstEndingBehind(offset); at < end && i < this.moves.length; i++) {
      const move = this.moves[i]
      if (move.from >= end) break
      if (move.from > at) yield { at, length: move.from - at }
      at = Math.max(at, move.from)
      const stop = Math.min(end, move.from + move.length)
      yield { at: move.to + at - move.from, length: stop - at }
      at = stop
    }
    if (at < end) yield { at, length: end - at }
  }

  /** Where a single unit is now. */
  of(unit: number): number {
    const move = this.moves[this.firstEndingBehind(unit)]
    return move && move.from <= unit ? move.to + unit - move.from : unit
  }

  private firstEndingBehind(unit: number): number {
    let low = 0
    let high = this.moves.length
    while (low < high) {
      const middle = (low + high) >> 1
      if (this.moves[middle].from + this.moves[middle].length > unit) high = middle
      else low = middle + 1
    }
    return low
  }
}

/**
 * New places in front of `end` for stretches that lie behind it, the longest first, so that they stay whole.
 * Undefined when they do not all find room.
 */
export function placeAll(stretches: readonly Extent[], space: FreeSpace): UnitMove[] | undefined {
  const moves: UnitMove[] = []
  for (const { offset, length } of [...stretches].sort((a, b) => b.length - a.length || a.offset - b.offset)) {
    const places = space.take(length)
    if (!places) return undefined
    let from = offset
    for (const place of places) {
      moves.push({ from, to: place.offset, length: place.length })
      from += place.length
    }
  }
  return moves
}
