import type { BlockDevice, Extent, Origin, OwnDigests } from './device'
import { ReadOnlyDevice } from './device'

/**
 * A device that passes everything on to the one below. What a kind of device does otherwise it overrides, and nothing
 * that the one below can do is forgotten on the way. `size` may be another than the one below has.
 */
export class WrappedDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  discard?: (offset: number, length: number) => Promise<void>
  mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  uncache?: () => Promise<void>
  origins?: (offset: number, length: number) => Iterable<Origin>
  /** Not passed on by itself: a device that reads otherwise than the one below has other digests. */
  digests?: OwnDigests

  constructor(
    protected readonly base: BlockDevice,
    readonly size: number = base.size,
  ) {
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    if (base.discard) this.discard = (offset, length) => base.discard!(offset, length)
    if (base.mapped) this.mapped = (offset, length) => base.mapped!(offset, length)
    if (base.uncache) this.uncache = () => base.uncache!()
    if (base.origins) this.origins = (offset, length) => base.origins!(offset, length)
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    return this.base.read(offset, into)
  }

  write(offset: number, from: Uint8Array): Promise<void> {
    return this.base.write(offset, from)
  }

  flush(): Promise<void> {
    return this.base.flush()
  }
}

/** The same for kinds that are only read: writing is refused, and there is nothing to flush. */
export class ReadOnlyWrapper extends WrappedDevice {
  constructor(base: BlockDevice, size: number = base.size) {
    super(base, size)
    delete this.discard
  }

  override async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  override async flush(): Promise<void> {}
}
