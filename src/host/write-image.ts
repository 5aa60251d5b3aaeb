import { createHash } from 'node:crypto'
import { unlink } from 'node:fs/promises'
import type { BlockDevice, Extent } from '@/core/block/device'
import { mergeExtents } from '@/core/block/extents'
import { CoreError } from '@/core/errors'
import { type TargetKind, TARGETS } from '@/core/image'
import { convertDevice, type ConvertProgress } from '@/core/image/convert'
import { createWhole } from './files'
import { openHostImage } from './images'
import { packCluster } from './packed'

const PIECE = 4 * 1024 * 1024

/** A disk that is to be written, and what of it; `extents` gives the same each time, in order. */
export interface ImageContent {
  readonly device: BlockDevice
  readonly extents: () => AsyncIterable<Extent>
}

export interface WriteImageOptions {
  readonly to: TargetKind
  /** What has the name may be there, and is until the new file is whole. */
  readonly overwrite?: boolean
  readonly signal?: AbortSignal
  /** Asked before the image gets its name, and once more when it was read back; rejecting leaves no image. */
  readonly beforeDone?: () => Promise<void>
  readonly time: number
  readonly guid: () => string
  readonly onProgress?: (progress: ConvertProgress) => void
}

export interface WrittenImage {
  readonly sizeBytes: number
  readonly writtenBytes: number
  readonly verified: true
  /** SHA-256 of all that was written, in order. */
  readonly digest: string
}

/**
 * Writes a disk as an image, reads back all that was written and compares it. Rejects with CoreError when the image
 * does not give it back; then it is removed.
 */
export async function writeImage(
  { device, extents }: ImageContent,
  output: string,
  { to, overwrite, signal, beforeDone, time, guid, onProgress }: WriteImageOptions,
): Promise<WrittenImage> {
  const writing = { virtualBytes: device.size, sectorSize: device.logicalSectorSize, time, guid, pack: packCluster }
  await createWhole(
    output,
    async (sink) => {
      await convertDevice(device, TARGETS[to].writer(sink, writing), { extents: extents(), signal, onProgress })
      await beforeDone?.()
    },
    { overwrite },
  )
  const image = await openHostImage(output, { sectorSize: device.logicalSectorSize })
  const digest = createHash('sha256')
  let writtenBytes = 0
  try {
    for await (const { offset, length } of mergeExtents(extents())) {
      for (let at = offset; at < offset + length; at += PIECE) {
        signal?.throwIfAborted()
        const [expected, found] = [0, 1].map(() => Buffer.alloc(Math.min(PIECE, offset + length - at)))
        await device.read(at, expected)
        await image.device.read(at, found)
        if (!expected.equals(found)) {
          throw new CoreError(
            `${output} does not give back what was written to it, from byte ${at} on, and was removed.`,
          )
        }
        digest.update(expected)
        writtenBytes += expected.length
      }
    }
    await beforeDone?.()
  } catch (error) {
    // An image that is not known to be equal must not stay under its name.
    await unlink(output)
    throw error
  } finally {
    await image.close()
  }
  return { sizeBytes: device.size, writtenBytes, verified: true, digest: digest.digest('hex') }
}
