import type { BlockDevice } from '../block/device'

/**
 * Keeps files in a volume that are written where they lie: made with clusters that hold whatever they held, and given
 * their length and name once they are whole. Paths name a file of the root directory. `time` is in milliseconds since
 * 1970. All reject with CoreError where the volume is not clean, has no room, or keeps something in a way that is not
 * changed here; what was written by then is for a caller's overlay to forget.
 */
export interface FileKeeper {
  /** The longest file that the kind can have, in bytes; absent where only the volume sets an end. */
  readonly mostFileBytes?: number
  /** Makes a file of this content, or one with clusters for so many bytes. Rejects when the name is taken. */
  make(volume: BlockDevice, name: string, content: Uint8Array | number, time: number): Promise<void>
  /** Gives a file another name and length; clusters behind that are free again. */
  settle(volume: BlockDevice, from: string, to: string, bytes: number, time: number): Promise<void>
  remove(volume: BlockDevice, name: string, time: number): Promise<void>
}
