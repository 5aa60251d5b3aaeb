import type { Extent } from '../../block/device'
import type { ImageFormat } from '../port'
import type { ImageStore } from '../store'

/** Bytes at the beginning of the file in which the mark of an unfinished copy stands. */
export const MARK_BYTES = 4096

/** A range of a disk block by block, with the part of the range that each one has. All in bytes. */
export function* inBlocks(offset: number, length: number, blockBytes: number) {
  for (let start = 0; start < length;) {
    const block = Math.floor((offset + start) / blockBytes)
    const within = offset + start - block * blockBytes
    const end = start + Math.min(length - start, blockBytes - within)
    yield { block, within, start, end }
    start = end
  }
}

/** The parts of a range whose blocks hold something, neighbours joined. */
export async function heldIn(
  offset: number,
  length: number,
  blockBytes: number,
  holds: (block: number) => boolean | Promise<boolean>,
): Promise<Extent[]> {
  const extents: { offset: number; length: number }[] = []
  for (const { block, start, end } of inBlocks(offset, length, blockBytes)) {
    const held = holds(block)
    if (!(typeof held === 'boolean' ? held : await held)) continue
    const last = extents.at(-1)
    if (last && last.offset + last.length === offset + start) last.length += end - start
    else extents.push({ offset: offset + start, length: end - start })
  }
  return extents
}

/** Takes up the tables of an image that was begun. */
export async function takeUp(
  store: ImageStore,
  map: { load(): Promise<void>; readonly end: number },
  format: ImageFormat,
): Promise<void> {
  await map.load()
  // One that was finished is left as it is.
  if (await format.recognise(store)) return
  // What lies behind was never named as sure; room that is taken anew reads as zeros.
  await store.truncate(Math.min(store.size, map.end))
}
