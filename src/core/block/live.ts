import { CHUNK_BYTES, chunkSteps, stepsAmong } from './chunks'
import { type BlockDevice, checkRange, type Extent, readInto, ReadOnlyDevice } from './device'
import { CoreError } from '../errors'
import { formatSize } from '../bytes/size'
import { commonExtents, unionExtents } from './extents'

/** A device that something else writes to while it is read here. */
export interface LiveDevice extends BlockDevice {
  /** Calls `before` ahead of every write, which waits for it, until the returned function is called. */
  watch(before: (offset: number, length: number) => Promise<void>): () => void
}

/** More was written under a snapshot than it may hold, so that what it shows would not be of one moment. */
export class SnapshotFull extends CoreError {
  override readonly name = 'SnapshotFull'
  constructor(limitBytes: number) {
    super(
      `More was written while it was copied than the snapshot of ${formatSize(limitBytes)} may hold, so the copy would not be of one moment. Close what writes, or allow the snapshot more.`,
    )
  }
}

/** The grain in which changes are noted: fine enough to tell one file's clusters from another's. */
const GRAIN = 4096

/** The places of a live device that were written since it was made: bytes, in pieces of GRAIN. */
export class ChangeLog {
  private readonly grains = new Set<number>()
  private readonly release: () => void

  constructor(private readonly live: LiveDevice) {
    this.release = live.watch(async (offset, length) => {
      for (let i = Math.floor(offset / GRAIN); i * GRAIN < offset + length; i++) this.grains.add(i)
    })
  }

  /** In order, without overlap. */
  changed(): Extent[] {
    const extents: { offset: number; length: number }[] = []
    for (const index of [...this.grains].sort((a, b) => a - b)) {
      const offset = index * GRAIN
      const length = Math.min(GRAIN, this.live.size - offset)
      const last = extents.at(-1)
      if (last && last.offset + last.length === offset) last.length += length
      else extents.push({ offset, length })
    }
    return extents
  }

  close(): void {
    this.release()
  }
}

/**
 * A live device whose provisioning stays what it was when this was made, so that a work list made of it is the same
 * each time; its bytes are those of now. Read only.
 */
export class FrozenMap implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  /** What was mapped of a chunk before it was first written. */
  private readonly before = new Map<number, Promise<readonly Extent[]>>()
  private readonly release: () => void

  constructor(private readonly live: LiveDevice) {
    this.size = live.size
    this.logicalSectorSize = live.logicalSectorSize
    this.physicalSectorSize = live.physicalSectorSize
    const { mapped } = live
    if (mapped) this.mapped = (offset, length) => this.mappedBefore(offset, length)
    this.release = live.watch(async (offset, length) => {
      if (!mapped) return
      for (const { index } of chunkSteps(offset, length)) {
        if (this.before.has(index)) continue
        const start = index * CHUNK_BYTES
        const state = live.mapped!(start, Math.min(CHUNK_BYTES, live.size - start))
        this.before.set(index, state)
        await state
      }
    })
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    return this.live.read(offset, into)
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  close(): void {
    this.release()
  }

  private async mappedBefore(offset: number, length: number): Promise<readonly Extent[]> {
    const now = await this.live.mapped!(offset, length)
    // What was written since is taken as it was before; all between as it is.
    const unwritten: Extent[] = []
    const before: Extent[] = []
    let at = offset
    for (const { index, from, to, kept } of stepsAmong(this.before, offset, length)) {
      const range = { offset: index * CHUNK_BYTES + from, length: to - from }
      unwritten.push({ offset: at, length: range.offset - at })
      before.push(...commonExtents(await kept, [range]))
      at = range.offset + range.length
    }
    unwritten.push({ offset: at, length: offset + length - at })
    return unionExtents(commonExtents(now, unwritten), before)
  }
}

/**
 * A live device as it was at one moment: before anything is written, what stood there is kept aside, on a device of the
 * same size. Ranges of `except` are shown as they are now. Reads reject with SnapshotFull once more was kept than
 * `limitBytes`.
 */
export class SnapshotDevice implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  /** Chunks that are kept, each from when it is. */
  private readonly kept = new Map<number, Promise<void>>()
  private readonly release: () => void
  private readonly frozen: FrozenMap
  private full = false

  constructor(
    private readonly live: LiveDevice,
    private readonly options: {
      readonly limitBytes: number
      readonly aside: BlockDevice
      readonly except?: readonly Extent[]
    },
  ) {
    this.size = live.size
    this.logicalSectorSize = live.logicalSectorSize
    this.physicalSectorSize = live.physicalSectorSize
    this.frozen = new FrozenMap(live)
    if (this.frozen.mapped) this.mapped = this.frozen.mapped
    this.release = live.watch((offset, length) => this.keep(offset, length))
  }

  /** Bytes that are kept aside. */
  get keptBytes(): number {
    return this.kept.size * CHUNK_BYTES
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    await this.live.read(offset, into)
    // After the reading, so that what was written while it went on is taken back too.
    for (const { index, from, to, at } of chunkSteps(offset, into.length)) {
      const kept = this.kept.get(index)
      if (!kept) continue
      await kept
      await readInto(this.options.aside, index * CHUNK_BYTES + from, into.subarray(at, at + to - from))
    }
    if (this.full) throw new SnapshotFull(this.options.limitBytes)
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  close(): void {
    this.release()
    this.frozen.close()
    this.kept.clear()
  }

  private async keep(offset: number, length: number): Promise<void> {
    for (const { index } of chunkSteps(offset, length)) {
      if (this.full || this.kept.has(index) || this.isExcept(index)) continue
      if (this.keptBytes + CHUNK_BYTES > this.options.limitBytes) {
        this.full = true
        return
      }
      const start = index * CHUNK_BYTES
      const chunk = new Uint8Array(Math.min(CHUNK_BYTES, this.size - start))
      const keeping = readInto(this.live, start, chunk).then(() => this.options.aside.write(start, chunk))
      this.kept.set(index, keeping)
      await keeping
    }
  }

  private isExcept(index: number): boolean {
    const from = index * CHUNK_BYTES
    return (this.options.except ?? []).some((e) => e.offset <= from && e.offset + e.length >= from + CHUNK_BYTES)
  }
}
