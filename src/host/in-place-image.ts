import { open } from 'node:fs/promises'
import type { BlockDevice } from '@/core/block/device'
import { isZero } from '@/core/block/device'
import { alignUp } from '@/core/bytes/size'
import { BlockMappedDevice } from '@/core/image/block-mapped'
import { hostError } from './errors'
import { readFileBytes, writeFileBytes } from './file-bytes'
import type { HostImage } from './images'

export interface InPlaceImage {
  readonly device: BlockDevice
  close(): Promise<void>
}

/** True for an image of which each stretch has one place of its own in the file, or can be given one. */
export function isWrittenInPlace({ device, parent, findings, newBlock }: HostImage): boolean {
  // One that builds on another, or has changes that were not carried out, has bytes in more than one place.
  return device instanceof BlockMappedDevice && parent === undefined && findings.length === 0 && newBlock !== undefined
}

/**
 * The disk of an image, written where its bytes lie in the file. A block that the file does not have yet is added at its
 * end, as zeros that are stored before the table names them: cut off at any instant, the disk is the same. `image` is
 * closed with it, and opened again by `reopen` when the file has grown.
 */
export async function openInPlace(
  file: string,
  name: string,
  first: HostImage,
  reopen: () => Promise<HostImage>,
): Promise<InPlaceImage> {
  let image = first
  const handle = await open(file, 'r+').catch((error: unknown) => {
    throw hostError(error, name)
  })
  const disk = () => image.device as BlockMappedDevice
  const addBlocks = async (offsets: readonly number[]) => {
    const { blockBytes, alignBytes, head, tailBytes, entry } = image.newBlock!
    for (const block of new Set(offsets.map((offset) => Math.floor(offset / blockBytes)))) {
      const end = (await handle.stat()).size - tailBytes
      const place = alignUp(end + head.length, alignBytes)
      const tail = new Uint8Array(tailBytes)
      await readFileBytes(handle, end, tail)
      // With its new length the file gets its end, so that it is never without one; where that was comes the head after it.
      if (tailBytes > 0) await writeFileBytes(handle, place + blockBytes, tail)
      else await handle.truncate(place + blockBytes)
      await handle.sync()
      await writeFileBytes(handle, place - head.length, head)
      await handle.sync()
      const { at, bytes } = entry(block * blockBytes, place)
      await writeFileBytes(handle, at, bytes)
      await handle.datasync()
    }
    const grown = await reopen()
    await image.close()
    image = grown
  }
  const { size, logicalSectorSize, physicalSectorSize } = disk()
  return {
    device: {
      size,
      logicalSectorSize,
      physicalSectorSize,
      read: (offset, into) => disk().read(offset, into),
      mapped: (offset, length) => disk().mapped(offset, length),
      async write(offset, from) {
        try {
          const missing: number[] = []
          for await (const { at, length, place } of disk().places(offset, from.length))
            if (place === undefined && !isZero(from.subarray(at, at + length))) missing.push(offset + at)
          if (missing.length > 0) await addBlocks(missing)
          for await (const { at, length, place } of disk().places(offset, from.length))
            if (place !== undefined) await writeFileBytes(handle, place, from.subarray(at, at + length))
        } catch (error) {
          throw hostError(error, name)
        }
      },
      flush: () => handle.datasync(),
    },
    async close() {
      await handle.close()
      await image.close()
    },
  }
}
