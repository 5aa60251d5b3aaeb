import { open } from 'node:fs/promises'
import type { BlockDevice } from '@/core/block/device'
import { isZero } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import type { BlockMappedDevice } from '@/core/image/block-mapped'
import { hostError } from './errors'
import { writeFileBytes } from './file-bytes'

export interface InPlaceImage {
  readonly device: BlockDevice
  close(): Promise<void>
}

/**
 * The disk of an image, written where its bytes lie in the file. What has no place there yet reads as zeros and stays so:
 * writing anything else to it rejects with CoreError, nothing of that request written. Whoever opens it has made sure
 * that each stretch has one place of its own.
 */
export async function openInPlace(file: string, name: string, disk: BlockMappedDevice): Promise<InPlaceImage> {
  const handle = await open(file, 'r+').catch((error: unknown) => {
    throw hostError(error, name)
  })
  const { size, logicalSectorSize, physicalSectorSize } = disk
  return {
    device: {
      size,
      logicalSectorSize,
      physicalSectorSize,
      read: (offset, into) => disk.read(offset, into),
      mapped: (offset, length) => disk.mapped(offset, length),
      async write(offset, from) {
        const places: { at: number; bytes: Uint8Array }[] = []
        for await (const { at, length, place } of disk.places(offset, from.length)) {
          const bytes = from.subarray(at, at + length)
          if (place !== undefined) places.push({ at: place, bytes })
          else if (!isZero(bytes))
            throw new CoreError(`${name} has no room yet where this is to be written. Nothing of it was written.`)
        }
        for (const { at, bytes } of places) await writeFileBytes(handle, at, bytes)
      },
      flush: () => handle.datasync(),
    },
    close: () => handle.close(),
  }
}
