import { type BlockDevice, type Extent, type Origin, ReadOnlyDevice, UnreadableSectors } from './device'
import { unionExtents } from './extents'
import { readAround } from './read-around'

/** A device that gives zeros where the medium gives nothing, and keeps what that was; for reading only. */
export class ReadAroundDevice implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  readonly origins?: (offset: number, length: number) => Iterable<Origin>
  private found: Extent[] = []

  constructor(private readonly base: BlockDevice) {
    this.size = base.size
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    if (base.mapped) this.mapped = (offset, length) => base.mapped!(offset, length)
    if (base.origins) this.origins = (offset, length) => base.origins!(offset, length)
  }

  /** What was asked for and did not read, in order. */
  get lost(): readonly Extent[] {
    return this.found
  }

  /** Sectors that did not read. */
  get lostSectors(): number {
    return this.found.reduce((sum, { length }) => sum + length, 0) / this.logicalSectorSize
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    try {
      await this.base.read(offset, into)
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      this.found = unionExtents(this.found, await readAround(this.base, offset, into))
    }
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}
}
