import { CoreError } from '../errors'
import { type BlockDevice, type Extent, checkRange, ReadOnlyDevice } from './device'

/** A device whose content appears `at` bytes into the assembled one. */
export interface Part {
  readonly at: number
  readonly device: BlockDevice
}

/** Parts laid out on an otherwise empty drive, for reading only. Between the parts it reads as zeros. */
export class CompositeDevice implements BlockDevice {
  readonly physicalSectorSize: number
  private readonly parts: readonly Part[]

  /** Throws CoreError when parts overlap or lie outside. */
  constructor(
    readonly size: number,
    readonly logicalSectorSize: 512 | 4096,
    parts: readonly Part[],
  ) {
    this.physicalSectorSize = logicalSectorSize
    this.parts = [...parts].sort((a, b) => a.at - b.at)
    let end = 0
    for (const { at, device } of this.parts) {
      if (at < end || at + device.size > size) throw new CoreError('The parts of the new layout overlap or do not fit.')
      end = at + device.size
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    let filled = 0
    for (const { part, from, to } of this.within(offset, into.length)) {
      into.fill(0, filled, from - offset)
      await part.device.read(from - part.at, into.subarray(from - offset, to - offset))
      filled = to - offset
    }
    into.fill(0, filled)
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    const extents: Extent[] = []
    for (const { part, from, to } of this.within(offset, length)) {
      if (!part.device.mapped) {
        extents.push({ offset: from, length: to - from })
        continue
      }
      const inner = await part.device.mapped(from - part.at, to - from)
      extents.push(...inner.map((e) => ({ offset: e.offset + part.at, length: e.length })))
    }
    return extents
  }

  private *within(offset: number, length: number) {
    for (const part of this.parts) {
      const from = Math.max(offset, part.at)
      const to = Math.min(offset + length, part.at + part.device.size)
      if (from < to) yield { part, from, to }
    }
  }
}
