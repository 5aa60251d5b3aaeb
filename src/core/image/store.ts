import type { Extent } from '../block/device'
import type { ImageFile } from './port'

/** The file of an image that is being made: written in any place, and again. What was never written reads as zeros, behind its end too. */
export interface ImageStore {
  /** Its length now. */
  readonly size: number
  read(offset: number, into: Uint8Array): Promise<void>
  write(offset: number, from: Uint8Array): Promise<void>
  /** Sets the length of the file, which then ends in zeros. */
  truncate(length: number): Promise<void>
  /** Makes everything written so far survive a power cut. */
  flush(): Promise<void>
  /** Lets go of what is kept of it in memory: what is read from now on comes from the medium. Absent where nothing is. */
  uncache?(): Promise<void>
  /** The parts of a range that are not holes of the file, in order. Absent where the host can't tell. */
  mapped?(offset: number, length: number): Promise<readonly Extent[]>
}

/** Bytes with their place in a file. */
export interface FileWrite {
  readonly offset: number
  readonly bytes: Uint8Array
}

/** What makes an image of a file: the last writes, the one at its beginning at the very end, and the length it has then. */
export interface Closing {
  readonly writes: readonly FileWrite[]
  readonly length: number
}

/** A file as it is once the closing writes are in it. For reading only. */
export function closedView(store: ImageStore, { writes, length }: Closing): ImageFile {
  return {
    size: length,
    async read(offset, into) {
      await store.read(offset, into)
      for (const { offset: at, bytes } of writes) {
        const from = Math.max(offset, at)
        const to = Math.min(offset + into.length, at + bytes.length)
        if (from < to) into.set(bytes.subarray(from - at, to - at), from - offset)
      }
    },
  }
}

/** Carries the closing writes out: all but the last are stored before that is begun with. */
export async function closeStore(store: ImageStore, { writes, length }: Closing): Promise<void> {
  for (const { offset, bytes } of writes.slice(0, -1)) await store.write(offset, bytes)
  await store.truncate(length)
  await store.flush()
  const last = writes.at(-1)
  if (!last) return
  await store.write(last.offset, last.bytes)
  await store.flush()
}
