import type { BlockDevice } from './device'

/**
 * What a copy writes onto: a drive, or the disk in an image that is being made. A drive carries the mark of an
 * unfinished copy in its first sector and is whole when that is replaced; a medium with a `header` carries it outside
 * of the disk, and is whole when it was finished.
 */
export interface TargetMedium extends BlockDevice {
  /** True where it can only be appended: what is written twice takes room twice, so that all goes in order. */
  readonly appends?: boolean
  readonly header?: MediumHeader
}

/** How a medium is told from a whole one, apart from the bytes of its disk. */
export interface MediumHeader {
  /** Puts the mark where readers look for what the file is; stored when it resolves. */
  mark(bytes: Uint8Array): Promise<void>
  /** What stands there. */
  read(): Promise<Uint8Array>
  /** The disk as any reader finds it once the medium is finished, by the format's own reader. */
  readBack(): Promise<BlockDevice>
  /** Makes a finished medium of it, in place of the mark. May be called again. */
  finish(): Promise<void>
  /** The file opens as a finished image of this disk's size. */
  isFinished(): Promise<boolean>
}
