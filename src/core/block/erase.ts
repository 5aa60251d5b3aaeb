import { MIB } from '../bytes/size'
import { CoreError } from '../errors'
import { type BlockDevice, type Extent, isZero, readBytes } from './device'
import { partsOf } from './extents'

/** `zeros`: written over everything. `discard`: the drive is told to forget it all, and gives zeros from then on. */
export type EraseHow = 'zeros' | 'discard'

/** What an erase came to. */
export interface Erased {
  readonly how: EraseHow
  /** Bytes that zeros were written over; 0 for a discard. */
  readonly writtenBytes: number
  /** Bytes that were read back, all of them zeros. */
  readonly checkedBytes: number
}

const PIECE = 4 * MIB
const PROBES = 4096
const PROBE_BYTES = 64 * 1024

/**
 * Erases a whole drive and reads back: all that was written, and places spread over the rest. Where a drive tells which
 * of its sectors were ever written, only those get zeros; the others give zeros as they are. Rejects with CoreError where
 * it cannot discard, or something reads as other than zeros.
 */
export async function eraseDevice(device: BlockDevice, how: EraseHow): Promise<Erased> {
  const whole: Extent = { offset: 0, length: device.size }
  const held = device.mapped ? await device.mapped(0, device.size) : [whole]
  let writtenBytes = 0
  if (how === 'discard') {
    if (!device.discard) throw new CoreError('This drive cannot be told to forget what is on it. Write zeros over it.')
    await device.discard(0, device.size)
  } else {
    const zeros = new Uint8Array(PIECE)
    for await (const { offset, length } of pieces(held)) {
      await device.write(offset, zeros.subarray(0, length))
      writtenBytes += length
    }
  }
  await device.flush()
  await device.uncache?.()
  let checkedBytes = 0
  const check = async (offset: number, length: number) => {
    const bytes = await readBytes(device, offset, length)
    if (!isZero(bytes)) {
      const at = offset + bytes.findIndex((byte) => byte !== 0)
      throw new CoreError(`The drive still gives something else than zeros, at byte ${at}. It is not erased.`)
    }
    checkedBytes += length
  }
  for await (const { offset, length } of pieces(held)) await check(offset, length)
  const step = Math.max(PROBE_BYTES, Math.floor(device.size / PROBES / PROBE_BYTES) * PROBE_BYTES)
  for (let at = 0; at + PROBE_BYTES <= device.size; at += step) await check(at, PROBE_BYTES)
  const tail = Math.min(MIB, device.size)
  await check(device.size - tail, tail)
  return { how, writtenBytes, checkedBytes }
}

async function* pieces(extents: readonly Extent[]): AsyncGenerator<Extent> {
  for (const extent of extents) yield* partsOf(extent, PIECE)
}
