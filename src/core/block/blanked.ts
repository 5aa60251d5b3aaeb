import { type BlockDevice, checkRange, type Extent, type Origin, ReadOnlyDevice } from './device'

/** A device of which some stretches read as zeros, whatever is stored there; for reading only. */
export class BlankedDevice implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly origins?: (offset: number, length: number) => Iterable<Origin>

  /** `blank` in order and without overlap, whole sectors. */
  constructor(
    private readonly base: BlockDevice,
    private readonly blank: readonly Extent[],
  ) {
    this.size = base.size
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    if (base.origins) this.origins = (offset, length) => base.origins!(offset, length)
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    // What is blank is not asked for at all: it may lie where the medium fails.
    into.fill(0)
    for (const shown of this.shownIn(offset, into.length)) {
      await this.base.read(shown.offset, into.subarray(shown.offset - offset, shown.offset - offset + shown.length))
    }
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    const found: Extent[] = []
    for (const shown of this.shownIn(offset, length)) {
      found.push(...(this.base.mapped ? await this.base.mapped(shown.offset, shown.length) : [shown]))
    }
    return found
  }

  private shownIn(offset: number, length: number): Extent[] {
    const shown: Extent[] = []
    let next = offset
    for (const { offset: from, length: bytes } of this.blank) {
      if (from >= offset + length) break
      if (from + bytes <= next) continue
      if (from > next) shown.push({ offset: next, length: from - next })
      next = Math.min(offset + length, from + bytes)
    }
    if (next < offset + length) shown.push({ offset: next, length: offset + length - next })
    return shown
  }
}
