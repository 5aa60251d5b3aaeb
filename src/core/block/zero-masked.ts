import { type BlockDevice, checkRange, type Extent } from './device'
import { ReadOnlyWrapper } from './wrapped'

/** A device of which some stretches read as zeros, whatever is stored there; for reading only. */
export class ZeroMaskedDevice extends ReadOnlyWrapper {
  /** `blank` in order and without overlap, whole sectors. */
  constructor(
    base: BlockDevice,
    private readonly blank: readonly Extent[],
  ) {
    super(base)
    this.mapped = (offset, length) => this.mappedShown(offset, length)
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    // What is blank is not asked for at all: it may lie where the medium fails.
    into.fill(0)
    for (const shown of this.shownIn(offset, into.length)) {
      await this.base.read(shown.offset, into.subarray(shown.offset - offset, shown.offset - offset + shown.length))
    }
  }

  private async mappedShown(offset: number, length: number): Promise<readonly Extent[]> {
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
