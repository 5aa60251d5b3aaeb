import { type Extent, isZero } from './device'

/** Stretches of zeros that are left out are whole grains of this length, by their place on the device. */
const GRAIN = 64 * 1024

/** The stretches of `bytes`, which lie at `offset` of a device, that are not all zeros; neighbours joined. Offsets within `bytes`. */
export function* dataRuns(bytes: Uint8Array, offset: number): Generator<Extent> {
  let start = -1
  for (let at = 0; at < bytes.length;) {
    const end = Math.min(bytes.length, (Math.floor((offset + at) / GRAIN) + 1) * GRAIN - offset)
    const zeros = isZero(bytes.subarray(at, end))
    if (!zeros && start < 0) start = at
    if (zeros && start >= 0) {
      yield { offset: start, length: at - start }
      start = -1
    }
    at = end
  }
  if (start >= 0) yield { offset: start, length: bytes.length - start }
}
