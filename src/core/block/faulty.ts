import { type BlockDevice, checkRange, type Extent, UnreadableSectors } from './device'
import { unionExtents } from './extents'
import { WrappedDevice } from './wrapped'

/** Sectors with a fault of the medium: a run of them. */
export interface LostRun {
  readonly firstLba: number
  readonly count: number
}

/** A device that cannot read some of its sectors until they are written. */
export class FaultyDevice extends WrappedDevice {
  private readonly lost: Set<number>

  constructor(base: BlockDevice, runs: readonly LostRun[]) {
    super(base)
    this.lost = new Set(runs.flatMap(({ firstLba, count }) => Array.from({ length: count }, (_, i) => firstLba + i)))
    if (base.mapped) this.mapped = (offset, length) => this.mappedWithLost(base, offset, length)
    // To forget a range is no way to have its sectors replaced.
    delete this.discard
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    const sectors = this.lostIn(offset, into.length)
    if (sectors.length > 0) throw new UnreadableSectors(sectors)
    await this.base.read(offset, into)
  }

  override async write(offset: number, from: Uint8Array): Promise<void> {
    await this.base.write(offset, from)
    // A drive puts a spare sector in the place of one that is written and cannot be.
    for (const sector of this.lostIn(offset, from.length)) this.lost.delete(sector)
  }

  /** What cannot be read may hold anything, whatever was stored there. */
  private async mappedWithLost(base: BlockDevice, offset: number, length: number): Promise<readonly Extent[]> {
    const below = await base.mapped!(offset, length)
    const sector = this.logicalSectorSize
    const lost = this.lostIn(offset, length).map((lba) => ({ offset: lba * sector, length: sector }))
    return lost.length === 0 ? below : unionExtents(below, lost)
  }

  private lostIn(offset: number, length: number): number[] {
    const first = offset / this.logicalSectorSize
    const end = (offset + length) / this.logicalSectorSize
    if (end - first < this.lost.size) {
      const found: number[] = []
      for (let sector = first; sector < end; sector++) if (this.lost.has(sector)) found.push(sector)
      return found
    }
    return [...this.lost].filter((sector) => sector >= first && sector < end).sort((a, b) => a - b)
  }
}

/** A device that takes every write and stores some of its sectors with a bit turned over, telling nobody. */
export class CorruptingDevice extends WrappedDevice {
  constructor(
    base: BlockDevice,
    private readonly runs: readonly LostRun[],
  ) {
    super(base)
  }

  override async write(offset: number, from: Uint8Array): Promise<void> {
    const sector = this.logicalSectorSize
    const hit = this.runs.filter(
      (run) => run.firstLba * sector < offset + from.length && (run.firstLba + run.count) * sector > offset,
    )
    if (hit.length === 0) return this.base.write(offset, from)
    const stored = from.slice()
    for (const { firstLba, count } of hit) {
      for (let at = firstLba * sector - offset; at < (firstLba + count) * sector - offset; at += sector) {
        if (at >= 0 && at < stored.length) stored[at] ^= 1
      }
    }
    await this.base.write(offset, stored)
  }
}
