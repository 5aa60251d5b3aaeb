import type { Digest } from '../digest'
import type { Piece } from './plan'

/** How many pieces share one remembered digest; a drive of any size needs only a few of them. */
const PIECES_PER_SPAN = 256

/** A stretch of the work list with its pieces' digests; one is undefined while its piece is still to be read. */
export interface Span {
  readonly digests: (Uint8Array | undefined)[]
  readonly pieces: readonly Piece[]
}

/** The digest of a span whose pieces all have theirs. */
export function spanDigest({ digests }: Span, digest: Digest): Uint8Array {
  const whole = new Uint8Array(digests.length * digests[0]!.length)
  digests.forEach((part, i) => whole.set(part!, i * part!.length))
  return digest(whole)
}

/**
 * Gathers the digests of pieces into spans. The first pass remembers one digest for each span; the check, made
 * over the same pieces, compares.
 */
export class SpanDigests {
  private parts: (Uint8Array | undefined)[] = []
  private pieces: Piece[] = []

  constructor(private readonly onSpan: (span: Span) => void | Promise<void>) {}

  async add(piece: Piece, digest: Uint8Array | undefined): Promise<void> {
    this.parts.push(digest)
    this.pieces.push(piece)
    if (this.parts.length === PIECES_PER_SPAN) await this.close()
  }

  /** Ends the last, shorter span. */
  async close(): Promise<void> {
    if (this.parts.length === 0) return
    const span = { digests: this.parts, pieces: this.pieces }
    this.parts = []
    this.pieces = []
    await this.onSpan(span)
  }
}
