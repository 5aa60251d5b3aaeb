import { type Extent, UnreadableSectors } from './device'
import { unionExtents } from './extents'
import { readAround } from './read-around'
import { ReadOnlyWrapper } from './wrapped'

/** A device that gives zeros where the medium gives nothing, and keeps what that was; for reading only. */
export class ReadAroundDevice extends ReadOnlyWrapper {
  private found: Extent[] = []

  /** What was asked for and did not read, in order. */
  get lost(): readonly Extent[] {
    return this.found
  }

  /** Sectors that did not read. */
  get lostSectors(): number {
    return this.found.reduce((sum, { length }) => sum + length, 0) / this.logicalSectorSize
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    try {
      await this.base.read(offset, into)
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      this.found = unionExtents(this.found, await readAround(this.base, offset, into))
    }
  }
}
