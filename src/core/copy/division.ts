import type { Extent } from '../block/device'

/** The largest piece that is read at once. */
export const PIECE_BYTES = 4 * 1024 * 1024
/** The largest piece of which it is known that it holds only zeros: nothing of it has to be read or held in memory. */
export const ZERO_PIECE_BYTES = 8 * PIECE_BYTES

/** How plans are divided into pieces. A journal counts pieces, so it goes on under the same number only. */
export const DIVISION = 2

/** A run in stretches that end on multiples of `step`, so that requests fall into step with the drive. */
export function* inStep(from: number, end: number, step: number): Generator<Extent> {
  for (let at = from; at < end;) {
    const stop = Math.min(end, (Math.floor(at / step) + 1) * step)
    yield { offset: at, length: stop - at }
    at = stop
  }
}
