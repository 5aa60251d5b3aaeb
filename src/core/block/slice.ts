import { type BlockDevice, type Extent, checkRange, OutOfRange, UnreadableSectors } from './device'

/** A part of a device, such as a partition, addressed from its own zero. */
export class SliceDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly discard?: (offset: number, length: number) => Promise<void>
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  readonly uncache?: () => Promise<void>

  /** Throws OutOfRange when the part is not whole sectors inside `base`. */
  constructor(
    private readonly base: BlockDevice,
    private readonly start: number,
    readonly size: number,
  ) {
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    if (!Number.isSafeInteger(start) || start < 0 || size < 0 || start + size > base.size) {
      throw new OutOfRange(start, size, base.size)
    }
    checkRange(base, start, size)
    if (base.discard) {
      this.discard = async (offset, length) => {
        checkRange(this, offset, length)
        await base.discard!(start + offset, length)
      }
    }
    if (base.uncache) this.uncache = () => base.uncache!()
    if (base.mapped) {
      this.mapped = async (offset, length) =>
        (await base.mapped!(start + offset, length)).map((e) => ({ offset: e.offset - start, length: e.length }))
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    try {
      await this.base.read(this.start + offset, into)
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      const shift = this.start / this.logicalSectorSize
      throw new UnreadableSectors(error.sectors.map((sector) => sector - shift))
    }
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    await this.base.write(this.start + offset, from)
  }

  flush(): Promise<void> {
    return this.base.flush()
  }
}
