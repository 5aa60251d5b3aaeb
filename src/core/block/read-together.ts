import { MIB } from '../bytes/size'
import { type BlockDevice } from './device'
import { ReadOnlyWrapper } from './wrapped'

// Several copies of one source, each in a thread of its own, read it once: what one has read the others take from memory
// that all of them have. They go at the pace of the slowest; who falls silent is not waited for any more.

const SLOT_BYTES = MIB
const SLOTS = 48
/** Shorter ones are tables and directories, which each reads for itself. */
const LEAST_BYTES = 64 * 1024

/** At the start all are waited for so long. */
const JOIN_MS = 20_000
/** One that does not take what was read for it in this time is left behind until it goes with the others again. */
const PATIENCE_MS = 5000
/** What another one is reading is waited for so long, then read here. */
const READING_MS = 15_000
/** The lock is held for a few instructions; one that is never given back died with its thread. */
const LOCK_MS = 2000

const [FREE, READING, READY] = [0, 1, 2]
const [EXPECTED, HERE, AWAY] = [0, 1, 2]
/** Places in the header, in 32-bit words. */
const [LOCK, CHANGE, COUNT, STAMP, STATES] = [0, 1, 2, 3, 8]
const MOST = 16
/** Of a slot: what it is, who has taken it, who is taking it, how old it is, its length, and its offset in two words. */
const [STATE, TAKEN, USING, AGE, LENGTH, LOW, HIGH] = [0, 1, 2, 3, 4, 5, 6]
const SLOT_WORDS = 8
/** Of each of them, the age of the newest piece that it has taken. */
const NEWEST = STATES + MOST
const HEADER_WORDS = NEWEST + MOST + SLOTS * SLOT_WORDS
/** Whoever has taken a piece that is newer by more than what is read ahead comes back for an older one no more. */
const AHEAD = 8

/** Memory through which `count` copies read together, 2 to 16. */
export function windowFor(count: number): SharedArrayBuffer {
  if (count < 2 || count > MOST) throw new RangeError(`${count} copies do not read together.`)
  const window = new SharedArrayBuffer(HEADER_WORDS * 4 + SLOTS * SLOT_BYTES)
  new Int32Array(window)[COUNT] = count
  return window
}

/** For one that will not come after all; the others do not wait for it. */
export function leaveWindow(window: SharedArrayBuffer, member: number): void {
  const words = new Int32Array(window, 0, HEADER_WORDS)
  Atomics.store(words, STATES + member, AWAY)
  Atomics.add(words, CHANGE, 1)
  Atomics.notify(words, CHANGE)
}

interface Claim {
  readonly is: 'ready' | 'mine' | 'read by another' | 'full'
  readonly slot: number
  /** The count of changes when it was decided. */
  readonly change: number
}

/** The source of one of several copies. What it reads in long pieces is read once for all of them. */
export class ReadTogether extends ReadOnlyWrapper {
  /** Bytes that it read itself for all, and that others had read. */
  ownBytes = 0
  sharedBytes = 0
  private readonly words: Int32Array
  private hasJoined = false
  /** The lock was lost with another thread: each reads for itself then. */
  private alone = false

  constructor(
    source: BlockDevice,
    private readonly window: SharedArrayBuffer,
    private readonly member: number,
    private readonly patienceMs = PATIENCE_MS,
  ) {
    super(source)
    this.words = new Int32Array(window, 0, HEADER_WORDS)
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    if (this.alone || into.length < LEAST_BYTES || into.length > SLOT_BYTES) return super.read(offset, into)
    if (!this.hasJoined) await this.join()
    for (;;) {
      const claim = this.locked(() => this.claim(offset, into.length))
      if (!claim) return super.read(offset, into)
      if (claim.is === 'mine') return this.readFor(claim.slot, offset, into)
      if (claim.is === 'ready') {
        into.set(this.bytesOf(claim.slot, into.length))
        this.sharedBytes += into.length
        this.locked(() => {
          this.add(claim.slot, USING, -1)
          this.take(claim.slot)
          // Who goes with the others again is waited for again.
          Atomics.store(this.words, STATES + this.member, HERE)
        })
        this.tell()
        return
      }
      const isOther = claim.is === 'read by another'
      if (await this.changed(claim.change, isOther ? READING_MS : this.patienceMs)) continue
      if (isOther) return super.read(offset, into)
      this.locked(() => this.leaveBehind())
    }
  }

  /** It reads no more; the others do not wait for it. */
  leave(): void {
    leaveWindow(this.window, this.member)
  }

  private async readFor(slot: number, offset: number, into: Uint8Array): Promise<void> {
    const bytes = this.bytesOf(slot, into.length)
    try {
      await super.read(offset, bytes)
    } catch (error) {
      // Each of them meets the trouble by itself, and tells of it.
      this.locked(() => this.set(slot, STATE, FREE))
      this.tell()
      throw error
    }
    into.set(bytes)
    this.ownBytes += into.length
    this.locked(() => {
      this.set(slot, STATE, READY)
      this.take(slot)
    })
    this.tell()
  }

  private async join(): Promise<void> {
    this.hasJoined = true
    Atomics.store(this.words, STATES + this.member, HERE)
    this.tell()
    const until = performance.now() + JOIN_MS
    while (performance.now() < until) {
      const change = Atomics.load(this.words, CHANGE)
      if (!this.members().includes(EXPECTED)) return
      await this.changed(change, until - performance.now())
    }
  }

  private claim(offset: number, length: number): Claim {
    let oldest: number | undefined
    const change = Atomics.load(this.words, CHANGE)
    const here = [...this.members().entries()].flatMap(([member, state]) => (state === HERE ? [member] : []))
    for (let slot = 0; slot < SLOTS; slot++) {
      const state = this.get(slot, STATE)
      const isIt = state !== FREE && this.get(slot, LENGTH) === length && this.offsetOf(slot) === offset
      if (isIt && state === READY) {
        this.add(slot, USING, 1)
        return { is: 'ready', slot, change }
      }
      if (isIt) return { is: 'read by another', slot, change }
      const isOver = state === READY && this.get(slot, USING) === 0 && here.every((m) => this.isDoneWith(slot, m))
      if ((state === FREE || isOver) && (oldest === undefined || this.get(slot, AGE) < this.get(oldest, AGE)))
        oldest = slot
    }
    if (oldest === undefined) return { is: 'full', slot: -1, change }
    this.set(oldest, STATE, READING)
    this.set(oldest, TAKEN, 0)
    this.set(oldest, LENGTH, length)
    this.set(oldest, LOW, offset % 2 ** 31)
    this.set(oldest, HIGH, Math.floor(offset / 2 ** 31))
    this.set(oldest, AGE, ++this.words[STAMP])
    return { is: 'mine', slot: oldest, change }
  }

  private isDoneWith(slot: number, member: number): boolean {
    return this.hasTaken(slot, member) || this.words[NEWEST + member] > this.get(slot, AGE) + AHEAD
  }

  private hasTaken(slot: number, member: number): boolean {
    return (this.get(slot, TAKEN) & (1 << member)) !== 0
  }

  /** Those that have not taken the oldest piece are not waited for until they read again. */
  private leaveBehind(): void {
    let oldest: number | undefined
    for (let slot = 0; slot < SLOTS; slot++) {
      if (this.get(slot, STATE) !== READY) continue
      if (oldest === undefined || this.get(slot, AGE) < this.get(oldest, AGE)) oldest = slot
    }
    if (oldest === undefined) return
    for (const [member, state] of this.members().entries())
      if (state === HERE && !this.isDoneWith(oldest, member)) Atomics.store(this.words, STATES + member, AWAY)
  }

  private take(slot: number): void {
    this.set(slot, TAKEN, this.get(slot, TAKEN) | (1 << this.member))
    this.words[NEWEST + this.member] = Math.max(this.words[NEWEST + this.member], this.get(slot, AGE))
  }

  private members(): number[] {
    return Array.from({ length: Atomics.load(this.words, COUNT) }, (_, i) => Atomics.load(this.words, STATES + i))
  }

  private offsetOf(slot: number): number {
    return this.get(slot, HIGH) * 2 ** 31 + this.get(slot, LOW)
  }

  private bytesOf(slot: number, length: number): Uint8Array {
    return new Uint8Array(this.window, HEADER_WORDS * 4 + slot * SLOT_BYTES, length)
  }

  private at(slot: number, field: number): number {
    return NEWEST + MOST + slot * SLOT_WORDS + field
  }

  private get(slot: number, field: number): number {
    return this.words[this.at(slot, field)]
  }

  private set(slot: number, field: number, value: number): void {
    this.words[this.at(slot, field)] = value
  }

  private add(slot: number, field: number, value: number): void {
    this.words[this.at(slot, field)] += value
  }

  private tell(): void {
    Atomics.add(this.words, CHANGE, 1)
    Atomics.notify(this.words, CHANGE)
  }

  /** Waits for something to change; false where nothing does in that time. */
  private async changed(since: number, ms: number): Promise<boolean> {
    const waiting = Atomics.waitAsync(this.words, CHANGE, since, ms)
    return (waiting.async ? await waiting.value : waiting.value) !== 'timed-out'
  }

  /** Does something that nobody else does meanwhile; undefined, for good, where the lock is lost. */
  private locked<T>(work: () => T): T | undefined {
    const until = performance.now() + LOCK_MS
    while (Atomics.compareExchange(this.words, LOCK, 0, 1) !== 0) {
      if (performance.now() > until) {
        this.alone = true
        return undefined
      }
      Atomics.wait(this.words, LOCK, 1, 50)
    }
    try {
      return work()
    } finally {
      Atomics.store(this.words, LOCK, 0)
      Atomics.notify(this.words, LOCK)
    }
  }
}
