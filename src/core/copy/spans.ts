import type { Digest } from '../digest'
import type { Piece } from './plan'

/** How many pieces share one remembered digest; a drive of any size needs only a few of them. */
const PIECES_PER_SPAN = 256

/** A stretch of the work list with the digest of its pieces' digests. */
export interface Span {
  readonly digest: Uint8Array
  readonly pieces: readonly Piece[]
}

/**
 * Rolls the digests of pieces into one for each span. The first pass remembers them; the check, made over
 * the same pieces, compares.
 */
export class SpanDigests {
  private parts: Uint8Array[] = []
  private pieces: Piece[] = []

  constructor(
    private readonly digest: Digest,
    private readonly onSpan: (span: Span) => void | Promise<void>,
  ) {}

  async add(piece: Piece, digest: Uint8Array): Promise<void> {
    this.parts.push(digest)
    this.pieces.push(piece)
    if (this.parts.length === PIECES_PER_SPAN) await this.close()
  }

  /** Ends the last, shorter span. */
  async close(): Promise<void> {
    if (this.parts.length === 0) return
    const whole = new Uint8Array(this.parts.length * this.parts[0].length)
    this.parts.forEach((part, i) => whole.set(part, i * part.length))
    const span = { digest: this.digest(whole), pieces: this.pieces }
    this.parts = []
    this.pieces = []
    await this.onSpan(span)
  }
}
