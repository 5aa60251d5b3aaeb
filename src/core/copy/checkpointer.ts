import type { CopyJournal, CopyState } from './journal'
import { toBase64 } from '../bytes/base64'

/** So many pieces are written between two checkpoints. */
export const CHECKPOINT_PIECES = 64

/** Writes one after the other while the next piece is read. After the first that fails nothing more is written. */
export class WriteQueue {
  private tail: Promise<void> = Promise.resolve()
  private failure: { readonly error: unknown } | undefined

  get failed(): boolean {
    return this.failure !== undefined
  }

  /** Appends a write; `done` is called when it has ended or was left out. Never rejects: `settled` tells. */
  push(write: () => Promise<void>, done: () => void = () => {}): void {
    this.tail = this.tail
      .then(() => (this.failure ? undefined : write()))
      .catch((error: unknown) => void (this.failure ??= { error }))
      .finally(done)
  }

  /** Resolves when everything pushed so far was written. Rejects with the error of the first write that failed. */
  async settled(): Promise<void> {
    await this.tail
    if (this.failure) throw this.failure.error
  }
}

interface Copying {
  readonly state: CopyState
  readonly targets: { flush(): Promise<void> }
  readonly journal?: CopyJournal
}

/**
 * Makes checkpoints while the copy goes on: what was written is flushed, then named in the journal. A checkpoint only
 * ever names pieces that were written and flushed without an error.
 */
export class Checkpointer {
  private named: number
  private later: number[] = []
  private underway: Promise<void> | undefined
  private failure: { readonly error: unknown } | undefined

  constructor(
    private readonly copying: Copying,
    private readonly writes: WriteQueue,
  ) {
    this.named = copying.state.pieces
  }

  /**
   * The first `pieces`, of `bytes`, are written or on their way; `later` names one that did not read. Rejects as
   * `settled`.
   */
  async reached(pieces: number, bytes: number, later?: number): Promise<void> {
    if (!this.copying.journal) return
    if (later !== undefined) this.later.push(later)
    if (pieces - this.named < CHECKPOINT_PIECES) return
    await this.settled()
    this.begin(pieces, bytes)
  }

  /** The last, shorter stretch. */
  async all(pieces: number, bytes: number): Promise<void> {
    if (!this.copying.journal || pieces <= this.named) return
    await this.settled()
    this.begin(pieces, bytes)
    await this.settled()
  }

  /** Rejects with the error of the checkpoint that failed. */
  async settled(): Promise<void> {
    await this.underway
    if (this.failure) throw this.failure.error
  }

  private begin(pieces: number, bytes: number): void {
    const { state, targets, journal } = this.copying
    const digests = toBase64(state.digests.slice(this.named, pieces))
    const record = { did: 'copy' as const, pieces, bytes, digests, later: this.later, written: state.writtenBytes }
    this.named = pieces
    this.later = []
    this.underway = this.writes
      .settled()
      .then(() => targets.flush())
      .then(() => journal!.append(record))
      .catch((error: unknown) => void (this.failure ??= { error }))
  }
}
