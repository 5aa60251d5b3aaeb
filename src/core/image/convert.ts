import { type BlockDevice, type Extent, isZero } from '../block/device'
import { mergeExtents } from '../block/extents'
import type { ImageWriter } from './port'

/** Bytes that are read at once; two such buffers are in use. */
export const PIECE_BYTES = 1024 * 1024
/** The device is asked for its map a stretch at a time, so that a map of any length costs the same memory. */
const WINDOW_BYTES = 1024 * 1024 * 1024
/** Stretches of zeros at least this long are left out. */
const GRAIN = 64 * 1024

export interface ConvertProgress {
  /** Place on the disk up to which everything is done. */
  readonly doneBytes: number
  readonly totalBytes: number
  readonly writtenBytes: number
}

export interface ConvertOptions {
  /** What of the device is taken along; all of it where nothing is said. In order. */
  readonly extents?: AsyncIterable<Extent>
  readonly signal?: AbortSignal
  readonly onProgress?: (progress: ConvertProgress) => void
}

/** The parts of a device that may hold anything but zeros, in order. */
export async function* mappedExtents(device: BlockDevice): AsyncGenerator<Extent> {
  for (let at = 0; at < device.size; at += WINDOW_BYTES) {
    const length = Math.min(WINDOW_BYTES, device.size - at)
    if (device.mapped) yield* await device.mapped(at, length)
    else yield { offset: at, length }
  }
}

/**
 * Writes all that a device holds into a new image, from its first sector to its last, zeros left out. Reading and
 * writing overlap over two buffers. Rejects as the device or the writer does, or with the signal's reason.
 */
export async function convertDevice(
  device: BlockDevice,
  writer: ImageWriter,
  options: ConvertOptions = {},
): Promise<void> {
  const { signal, onProgress } = options
  const buffers = [new Uint8Array(PIECE_BYTES), new Uint8Array(PIECE_BYTES)]
  let writing: Promise<void> = Promise.resolve()
  let writtenBytes = 0
  let turn = 0
  for await (const { offset, length } of mergeExtents(options.extents ?? mappedExtents(device))) {
    for (let at = offset; at < offset + length; at += PIECE_BYTES) {
      signal?.throwIfAborted()
      const piece = buffers[turn].subarray(0, Math.min(PIECE_BYTES, offset + length - at))
      turn = 1 - turn
      await device.read(at, piece)
      await writing
      const place = at
      writing = writePiece(place, piece)
      // A failure is met at the next await; this only keeps it from counting as unhandled until then.
      writing.catch(() => undefined)
    }
  }
  await writing
  await writer.finish(device.size)
  onProgress?.({ doneBytes: device.size, totalBytes: device.size, writtenBytes })

  async function writePiece(place: number, piece: Uint8Array): Promise<void> {
    for (const run of dataRuns(piece)) {
      await writer.write(place + run.offset, piece.subarray(run.offset, run.offset + run.length))
      writtenBytes += run.length
    }
    onProgress?.({ doneBytes: place + piece.length, totalBytes: device.size, writtenBytes })
  }
}

/** Writes a stream of unknown length into a new image. Gives the size of the disk. */
export async function convertStream(
  stream: AsyncIterable<Uint8Array>,
  writer: ImageWriter,
  options: { sectorSize: number; signal?: AbortSignal; onProgress?: (bytes: number) => void },
): Promise<number> {
  const buffer = new Uint8Array(PIECE_BYTES)
  let filled = 0
  let at = 0
  const send = async () => {
    for (const run of dataRuns(buffer.subarray(0, filled))) {
      await writer.write(at + run.offset, buffer.subarray(run.offset, run.offset + run.length))
    }
    at += filled
    filled = 0
    options.onProgress?.(at)
  }
  for await (const chunk of stream) {
    options.signal?.throwIfAborted()
    for (let from = 0; from < chunk.length;) {
      const part = chunk.subarray(from, from + buffer.length - filled)
      buffer.set(part, filled)
      filled += part.length
      from += part.length
      if (filled === buffer.length) await send()
    }
  }
  if (filled > 0) await send()
  const size = Math.ceil(at / options.sectorSize) * options.sectorSize
  await writer.finish(size)
  return size
}

/** The stretches of a piece that are not all zeros, by grains of 64 KiB, neighbours joined. */
function* dataRuns(piece: Uint8Array): Generator<Extent> {
  let start = -1
  for (let at = 0; at < piece.length; at += GRAIN) {
    const zeros = isZero(piece.subarray(at, at + GRAIN))
    if (!zeros && start < 0) start = at
    if (zeros && start >= 0) {
      yield { offset: start, length: at - start }
      start = -1
    }
  }
  if (start >= 0) yield { offset: start, length: piece.length - start }
}
