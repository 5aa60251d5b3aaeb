import { CoreError } from '../../errors'
import { nextBit, setBits } from '../bitmap'
import type { Run } from './runs'

/** Hands out clusters of a new volume from front to back. */
export class ClusterAllocator {
  readonly bits: Uint8Array
  private next = 0

  constructor(private readonly total: number) {
    this.bits = new Uint8Array(Math.ceil(total / 64) * 8)
  }

  /** These very clusters. */
  takeAt(lcn: number, length: number): Run & { lcn: number } {
    if (lcn + length > this.total) throw new CoreError('The volume is too small for its own records.')
    setBits(this.bits, lcn, length)
    return { lcn, length }
  }

  /** The next free clusters, in as few runs as what is taken already allows. */
  take(count: number): Run[] {
    const runs: Run[] = []
    let left = count
    while (left > 0) {
      this.next = nextBit(this.bits, this.next, this.total, false)
      const length = nextBit(this.bits, this.next, Math.min(this.total, this.next + left), true) - this.next
      if (length === 0) throw new CoreError('The files do not fit on the volume.')
      runs.push(this.takeAt(this.next, length))
      this.next += length
      left -= length
    }
    return runs
  }

  /** Clusters broken into `fragments` runs with a free one between them, behind `gap` free ones. */
  scatter(count: number, fragments: number, gap: number): Run[] {
    this.next = Math.min(this.total, this.next + gap)
    if (fragments <= 1) return this.take(count)
    const runs: Run[] = []
    const each = Math.max(1, Math.floor(count / fragments))
    let left = count
    while (left > 0) {
      const length = runs.length >= fragments - 1 ? left : Math.min(each, left)
      runs.push(...this.take(length))
      this.next += 1
      left -= length
    }
    return runs
  }
}
