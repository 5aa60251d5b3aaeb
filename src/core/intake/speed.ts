import * as z from 'zod'
import { type BlockDevice, UnreadableSectors } from '../block/device'
import { alignDown, KIB, MIB } from '../bytes/size'

/** How fast a drive read, measured over the link that it had. */
export const SpeedSchema = z.object({
  sequentialBytesPerSecond: z.number(),
  /** Reads of 4 KiB at scattered places. */
  randomReadsPerSecond: z.number(),
  /** Reads that failed, of all. */
  failedReads: z.number(),
  reads: z.number(),
  /** Where the drive was and over what, in words. */
  over: z.string(),
})
export type Speed = z.infer<typeof SpeedSchema>

const STRETCHES = 4
const PIECES = 8
const PIECE_BYTES = 4 * MIB
const RANDOM_READS = 256
const RANDOM_BYTES = 4 * KIB

/** A device that counts the seconds which reading it takes, as a model has them or as they pass. */
export interface TimedReads extends BlockDevice {
  readonly seconds: number
}

/**
 * Reads a drive as a measurement does: four stretches from its start to its end in large pieces, then 256 small
 * reads at places that are the same every time. Sectors that do not read are counted and cost what they cost.
 */
export async function measureSpeed(timed: TimedReads, over: string): Promise<Speed> {
  let failedReads = 0
  let reads = 0
  const attempt = async (offset: number, into: Uint8Array) => {
    reads++
    try {
      await timed.read(offset, into)
      return into.length
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      failedReads++
      return 0
    }
  }
  const piece = new Uint8Array(Math.min(PIECE_BYTES, alignDown(timed.size, timed.logicalSectorSize)))
  let bytes = 0
  for (let s = 0; s < STRETCHES; s++) {
    const room = Math.max(0, timed.size - PIECES * piece.length)
    const start = alignDown((room * s) / (STRETCHES - 1), timed.logicalSectorSize)
    for (let p = 0; p < PIECES && start + (p + 1) * piece.length <= timed.size; p++) {
      bytes += await attempt(start + p * piece.length, piece)
    }
  }
  const sequentialSeconds = timed.seconds
  const small = new Uint8Array(Math.max(RANDOM_BYTES, timed.logicalSectorSize))
  let place = 0x2545f491
  let done = 0
  for (let i = 0; i < RANDOM_READS && timed.size >= small.length; i++) {
    // Places by a linear congruence, so that two measurements read the same ones.
    place = (Math.imul(place, 1664525) + 1013904223) >>> 0
    const at = alignDown((place / 2 ** 32) * (timed.size - small.length), timed.logicalSectorSize)
    if ((await attempt(at, small)) > 0) done++
  }
  const randomSeconds = timed.seconds - sequentialSeconds
  return {
    sequentialBytesPerSecond: sequentialSeconds > 0 ? bytes / sequentialSeconds : 0,
    randomReadsPerSecond: randomSeconds > 0 ? done / randomSeconds : 0,
    failedReads,
    reads,
    over,
  }
}
