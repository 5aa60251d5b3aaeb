import type { TargetMedium } from '../../block/medium'
import type { ImageStore } from '../store'

/** What a new image needs that core does not have of its own. */
export interface TargetOptions {
  /** The size of the disk. */
  readonly virtualBytes: number
  readonly sectorSize: 512 | 4096
  /** The name that the file will have. */
  readonly name: string
  /** Milliseconds since 1970. */
  readonly time: number
  /** A new GUID for each call; the same ones again where an image is gone on with. */
  readonly guid: () => string
  /** Packs by deflate, with a window of 4 KiB, bare or in zlib's frame. Several may run at once. */
  readonly pack?: (bytes: Uint8Array, frame: 'bare' | 'zlib') => Promise<Uint8Array>
  /** The file was begun before and is gone on with. */
  readonly begun?: boolean
}

/** Makes the disk of a new image in a file. Throws CoreError where the format does not hold such a disk. */
export type TargetMaker = (store: ImageStore, options: TargetOptions) => Promise<TargetMedium>
