import { type BlockDevice, checkRange, type Extent } from '../../block/device'
import type { TargetMedium } from '../../block/medium'
import { CoreError } from '../../errors'
import type { ImageStore } from '../store'
import type { TargetMaker } from './port'

/** A disk whose bytes stand in the file as they are. */
export class FlatDisk implements BlockDevice {
  readonly physicalSectorSize = 4096
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  readonly uncache?: () => Promise<void>

  constructor(
    protected readonly store: ImageStore,
    readonly size: number,
    readonly logicalSectorSize: 512 | 4096,
  ) {
    if (store.uncache) this.uncache = () => store.uncache!()
    if (store.mapped) this.mapped = (offset, length) => store.mapped!(offset, length)
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    await this.store.read(offset, into)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    await this.store.write(offset, from)
  }

  flush(): Promise<void> {
    return this.store.flush()
  }

  /** Whatever lies behind `offset`, by cutting the file there and making it long again. */
  async discard(offset: number, length: number): Promise<void> {
    checkRange(this, offset, length)
    if (offset + length !== this.size) throw new CoreError('Only the end of a file can be forgotten.')
    await this.store.truncate(offset)
    await this.store.truncate(this.size)
  }
}

/** A raw image. The disk's first sector carries the mark of an unfinished copy, as a drive's does. */
export const rawTarget: TargetMaker = async (store, { virtualBytes, sectorSize, begun }) => {
  if (!begun) await store.truncate(virtualBytes)
  else if (store.size !== virtualBytes) throw new CoreError('The image that was begun is not of the size of this disk.')
  return new FlatDisk(store, virtualBytes, sectorSize) satisfies TargetMedium
}
