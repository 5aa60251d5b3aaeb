import { CoreError } from '../errors'
import { type BlockDevice, type Extent, checkRange, type Origin, ReadOnlyDevice } from './device'

/** A stretch of bytes that appears in another place than it lies in. All in bytes, whole logical sectors. */
export interface Move {
  readonly from: number
  readonly to: number
  readonly length: number
}

/**
 * A device with some stretches in other places, for reading only, so that moving them costs no pass of its own.
 * What no move covers stands where it stood; behind the base's end it reads as zeros.
 */
export class MovedDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  private readonly moves: readonly Move[]

  /** Throws CoreError when moves lead to one place or out of the device. */
  constructor(
    private readonly base: BlockDevice,
    readonly size: number,
    moves: readonly Move[],
  ) {
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    this.moves = [...moves].sort((a, b) => a.to - b.to)
    let end = 0
    for (const { from, to, length } of this.moves) {
      if (to < end || to + length > size || from + length > base.size) {
        throw new CoreError('What is to be moved leads to one place twice, or out of the volume.')
      }
      end = to + length
    }
    if (base.mapped) this.mapped = (offset, length) => this.mappedThrough(base, offset, length)
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    for (const { at, from, length } of this.origins(offset, into.length)) {
      const part = into.subarray(at - offset, at - offset + length)
      const inBase = Math.max(0, Math.min(length, this.base.size - from))
      if (inBase > 0) await this.base.read(from, part.subarray(0, inBase))
      part.fill(0, inBase)
    }
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  /** Where the bytes of a stretch lie on the base: pieces in order, as long as the stretch. */
  *origins(offset: number, length: number): Generator<Origin> {
    const end = offset + length
    let at = offset
    for (let i = this.firstEndingBehind(offset); at < end && i < this.moves.length; i++) {
      const move = this.moves[i]
      if (move.to >= end) break
      if (move.to > at) yield { at, from: at, length: move.to - at }
      at = Math.max(at, move.to)
      const stop = Math.min(end, move.to + move.length)
      yield { at, from: move.from + at - move.to, length: stop - at }
      at = stop
    }
    if (at < end) yield { at, from: at, length: end - at }
  }

  private firstEndingBehind(offset: number): number {
    let low = 0
    let high = this.moves.length
    while (low < high) {
      const middle = (low + high) >> 1
      if (this.moves[middle].to + this.moves[middle].length > offset) high = middle
      else low = middle + 1
    }
    return low
  }

  private async mappedThrough(base: BlockDevice, offset: number, length: number): Promise<readonly Extent[]> {
    const extents: Extent[] = []
    for (const piece of this.origins(offset, length)) {
      const inBase = Math.max(0, Math.min(piece.length, base.size - piece.from))
      if (inBase === 0) continue
      const below = await base.mapped!(piece.from, inBase)
      extents.push(...below.map((e) => ({ offset: e.offset - piece.from + piece.at, length: e.length })))
    }
    return extents
  }
}
