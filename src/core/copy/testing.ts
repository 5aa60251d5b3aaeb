import type { BlockDevice } from '../block/device'
import { type MemoryDevice } from '../block/memory'
import { type CopyJournal, type CopyState, journalLine, journalRecords, stateOf } from './journal'

/** The power went, the cable was pulled, or the server was killed. */
export class Cut extends Error {}

/** Random numbers from 0 up to 1. */
export type Chance = () => number

/**
 * A drive with a cache and a journal beside it, which lose power together after so many operations: of what was written
 * since the last flush any sectors may be on the medium and any may not, and of a line of the journal any part.
 */
export class CutBench {
  private left: number
  private readonly cache = new Map<number, Uint8Array>()
  private text = ''
  /** Operations so far. */
  spent = 0

  constructor(
    private readonly medium: MemoryDevice,
    private readonly chance: Chance,
    operations: number,
  ) {
    this.left = operations
  }

  /** The power is back, for so many operations. */
  again(operations: number): void {
    this.left = operations
  }

  /** Forgets the journal, as whoever starts a copy over does. */
  startOver(): void {
    this.text = ''
  }

  get state(): CopyState | undefined {
    return stateOf(journalRecords(this.text))
  }

  readonly journal: CopyJournal = {
    append: async (record) => {
      const line = journalLine(record)
      if (this.left === 1) this.text += line.slice(0, Math.floor(this.chance() * line.length))
      this.spend()
      // A cut left half a line behind: whoever goes on writes after the last whole one.
      this.text = this.text.slice(0, this.text.lastIndexOf('\n') + 1) + line
    },
  }

  get drive(): BlockDevice {
    const { medium } = this
    const sector = medium.logicalSectorSize
    return {
      size: medium.size,
      logicalSectorSize: sector,
      physicalSectorSize: sector,
      read: async (offset, into) => {
        this.spend()
        await medium.read(offset, into)
        for (let at = 0; at < into.length; at += sector) {
          const cached = this.cache.get(offset + at)
          if (cached) into.set(cached, at)
        }
      },
      write: async (offset, from) => {
        for (let at = 0; at < from.length; at += sector) this.cache.set(offset + at, from.slice(at, at + sector))
        this.spend()
      },
      flush: async () => {
        this.spend()
        for (const [at, bytes] of this.cache) await medium.write(at, bytes)
        this.cache.clear()
      },
      discard: async (offset, length) => {
        for (const at of [...this.cache.keys()]) if (at >= offset && at < offset + length) this.cache.delete(at)
        this.spend()
        await medium.discard(offset, length)
      },
    }
  }

  private spend(): void {
    this.spent++
    if (--this.left > 0) return
    // From now on nothing works until the power is back; what of the cache had reached the medium is left to chance.
    if (this.left === 0) this.loseCache()
    throw new Cut()
  }

  private loseCache(): void {
    const kept = [...this.cache].filter(() => this.chance() < 0.5)
    this.cache.clear()
    for (const [at, bytes] of kept) void this.medium.write(at, bytes)
  }
}

/** What can go wrong by itself, and at which of its kind: the first write is 1. */
export interface Fault {
  readonly of: 'write' | 'flush' | 'journal'
  readonly at: number
}

/** The device failed at the place that a test asked for. */
export class Failed extends Error {}

/**
 * Drives with a cache, and a journal beside them, of which each fails by itself. A write that fails leaves nothing. A
 * flush that fails loses what was cached, and says so only once, as hosts do.
 */
export class FaultBench {
  private text = ''
  private counts = { write: 0, flush: 0, journal: 0 }

  private faults: readonly Fault[]

  constructor(...faults: Fault[]) {
    this.faults = faults
  }

  /** Nothing fails any more. */
  mend(): void {
    this.faults = []
  }

  /** How often each kind was asked for. */
  get asked(): Readonly<Record<Fault['of'], number>> {
    return this.counts
  }

  get state(): CopyState | undefined {
    return stateOf(journalRecords(this.text))
  }

  readonly journal: CopyJournal = {
    append: async (record) => {
      this.meet('journal')
      this.text += journalLine(record)
    },
  }

  /** A drive on this medium; only one that is `faulty` fails. */
  drive(medium: MemoryDevice, faulty = true): BlockDevice {
    const cache = new Map<number, Uint8Array>()
    const sector = medium.logicalSectorSize
    return {
      size: medium.size,
      logicalSectorSize: sector,
      physicalSectorSize: sector,
      read: async (offset, into) => {
        await medium.read(offset, into)
        for (let at = 0; at < into.length; at += sector) {
          const cached = cache.get(offset + at)
          if (cached) into.set(cached, at)
        }
      },
      write: async (offset, from) => {
        if (faulty) this.meet('write')
        for (let at = 0; at < from.length; at += sector) cache.set(offset + at, from.slice(at, at + sector))
      },
      flush: async () => {
        const cached = [...cache]
        cache.clear()
        if (faulty) this.meet('flush')
        for (const [at, bytes] of cached) await medium.write(at, bytes)
      },
      discard: async (offset, length) => {
        for (const at of [...cache.keys()]) if (at >= offset && at < offset + length) cache.delete(at)
        await medium.discard(offset, length)
      },
    }
  }

  private meet(kind: Fault['of']): void {
    const count = ++this.counts[kind]
    if (this.faults.some(({ of, at }) => of === kind && at === count)) throw new Failed(`${kind} ${count} failed`)
  }
}
