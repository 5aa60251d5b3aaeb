import { type BlockDevice, checkRange, type Extent } from './device'
import { unionExtents } from './extents'
import { ReadOnlyWrapper } from './wrapped'

/** Bytes that stand in place of what the device below holds. Whole sectors. */
export interface Patch {
  readonly offset: number
  readonly bytes: Uint8Array
}

/** A device of which some sectors are given from elsewhere and never read below; for reading only. */
export class PatchedDevice extends ReadOnlyWrapper {
  /** `patches` in order and without overlap. */
  constructor(
    base: BlockDevice,
    private readonly patches: readonly Patch[],
  ) {
    super(base)
    if (base.mapped) {
      this.mapped = async (offset, length) =>
        unionExtents(await base.mapped!(offset, length), this.within(offset, length))
    }
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    const end = offset + into.length
    let next = offset
    const below = async (to: number) => {
      if (to > next) await this.base.read(next, into.subarray(next - offset, to - offset))
    }
    for (const { offset: at, bytes } of this.patches) {
      const [from, to] = [Math.max(at, offset), Math.min(at + bytes.length, end)]
      if (from >= to) continue
      await below(from)
      into.set(bytes.subarray(from - at, to - at), from - offset)
      next = to
    }
    await below(end)
  }

  private within(offset: number, length: number): Extent[] {
    return this.patches.flatMap((patch) => {
      const from = Math.max(offset, patch.offset)
      const to = Math.min(offset + length, patch.offset + patch.bytes.length)
      return from < to ? [{ offset: from, length: to - from }] : []
    })
  }
}
