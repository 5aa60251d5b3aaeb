import { PROFILE_BUCKETS } from './types'

/** Adds up how much of each stretch of a drive is used. */
export class DepthProfile {
  private readonly used = new Float64Array(PROFILE_BUCKETS)

  constructor(private readonly sizeBytes: number) {}

  /** Counts a used run; bytes from the start of the drive. */
  add(offset: number, length: number): void {
    const bucket = this.sizeBytes / PROFILE_BUCKETS
    const end = Math.min(offset + length, this.sizeBytes)
    for (let at = offset; at < end;) {
      const index = Math.min(PROFILE_BUCKETS - 1, Math.floor(at / bucket))
      const stop = index === PROFILE_BUCKETS - 1 ? end : Math.min(end, Math.max(at + 1, (index + 1) * bucket))
      this.used[index] += stop - at
      at = stop
    }
  }

  /** Share used of each stretch, 0 to 1. */
  shares(): number[] {
    const bucket = this.sizeBytes / PROFILE_BUCKETS
    return Array.from(this.used, (bytes) => Math.min(1, Math.round((bytes / bucket) * 10000) / 10000))
  }
}
