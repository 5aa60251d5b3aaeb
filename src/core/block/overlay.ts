import { deltaOf, layDelta } from './chunk-delta'
import { type BlockDevice, type Extent, checkRange, isZero, type Origin } from './device'
import { CHUNK_BYTES, chunkSteps, extentsOfSteps, stepsAmong } from './chunks'
import { unionExtents } from './extents'

/** So many changed chunks are kept as they are; of those that were changed before them only what differs. */
const KEPT_WHOLE = 128

/** What differs from the base's chunk. */
class Delta {
  constructor(readonly bytes: Uint8Array) {}
}

/**
 * Changes laid over a device that is itself never written, and stays as it is. It may be larger than its base; what
 * lies beyond reads as zeros. A changed chunk costs little more memory than the bytes in it that differ.
 */
export class OverlayDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  readonly origins?: (offset: number, length: number) => Iterable<Origin>
  /** A changed chunk's bytes or what differs in it, or null where the change left only zeros. */
  private readonly changes = new Map<number, Uint8Array | Delta | null>()
  /** Chunks that are kept whole and may be packed, the one that was changed first in front. */
  private readonly whole = new Set<number>()

  constructor(
    private readonly base: BlockDevice,
    readonly size: number = base.size,
    private readonly keptWhole = KEPT_WHOLE,
  ) {
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
    if (base.origins) this.origins = (offset, length) => base.origins!(offset, length)
    if (base.mapped) this.mapped = (offset, length) => this.mappedOver(base, offset, length)
  }

  /** The chunks that were changed, in order: bytes of this device. */
  changed(): Extent[] {
    return [...this.changes.keys()]
      .sort((a, b) => a - b)
      .map((index) => ({
        offset: index * CHUNK_BYTES,
        length: Math.min(CHUNK_BYTES, this.size - index * CHUNK_BYTES),
      }))
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    // Unchanged stretches are read from the base in one request each.
    let pending: { at: number; length: number } | undefined
    const readPending = async () => {
      if (pending) await this.readBase(offset + pending.at, into.subarray(pending.at, pending.at + pending.length))
      pending = undefined
    }
    for (const { index, from, to, at } of chunkSteps(offset, into.length)) {
      const change = this.changes.get(index)
      if (change instanceof Delta) {
        await readPending()
        const part = into.subarray(at, at + to - from)
        await this.readBase(index * CHUNK_BYTES + from, part)
        layDelta(change.bytes, from, part)
        continue
      }
      if (change === undefined) {
        if (pending) pending.length += to - from
        else pending = { at, length: to - from }
        continue
      }
      await readPending()
      if (change) into.set(change.subarray(from, to), at)
      else into.fill(0, at, at + to - from)
    }
    await readPending()
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    for (const step of chunkSteps(offset, from.length)) {
      const part = from.subarray(step.at, step.at + step.to - step.from)
      const chunk = new Uint8Array(CHUNK_BYTES)
      const start = step.index * CHUNK_BYTES
      if (part.length < CHUNK_BYTES) {
        const length = Math.min(CHUNK_BYTES, this.size - start)
        await this.read(start, chunk.subarray(0, length))
      }
      chunk.set(part, step.from)
      this.changes.set(step.index, isZero(chunk) ? null : chunk)
      this.whole.delete(step.index)
      this.whole.add(step.index)
      if (this.whole.size > this.keptWhole) await this.packFirst()
    }
  }

  async flush(): Promise<void> {}

  private async packFirst(): Promise<void> {
    const [index] = this.whole
    this.whole.delete(index)
    const chunk = this.changes.get(index)
    if (!(chunk instanceof Uint8Array)) return
    const below = new Uint8Array(CHUNK_BYTES)
    const start = index * CHUNK_BYTES
    try {
      await this.readBase(start, below.subarray(0, Math.min(CHUNK_BYTES, this.size - start)))
    } catch {
      // Over what the base does not give the whole chunk stays.
      return
    }
    const delta = deltaOf(below, chunk)
    // It may have been written anew meanwhile.
    if (delta && this.changes.get(index) === chunk) this.changes.set(index, new Delta(delta))
  }

  private async readBase(offset: number, into: Uint8Array): Promise<void> {
    const inBase = Math.max(0, Math.min(into.length, this.base.size - offset))
    if (inBase > 0) await this.base.read(offset, into.subarray(0, inBase))
    into.fill(0, inBase)
  }

  private async mappedOver(base: BlockDevice, offset: number, length: number): Promise<readonly Extent[]> {
    const inBase = Math.max(0, Math.min(length, base.size - offset))
    const below = inBase > 0 ? await base.mapped!(offset, inBase) : []
    if (this.changes.size === 0) return below
    return unionExtents(
      below,
      extentsOfSteps(stepsAmong(this.changes, offset, length).filter(({ kept }) => kept !== null)),
    )
  }
}
