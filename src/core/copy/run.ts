import { type BlockDevice, type Extent, isZero, UnreadableSectors } from '../block/device'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { BufferPool } from './buffers'
import { nameLost } from './lost'
import { unfinishedMarker } from './marker'
import { type CopyPlan, type Piece, PIECE_BYTES } from './plan'
import type { Lost } from './progress'
import { readAround } from './rescue'
import { type Span, spanDigest, SpanDigests } from './spans'

/** What a copy is doing: erasing, copying, reading back, writing the tables. */
export type CopyPhase = 'erase' | 'copy' | 'check' | 'tables'

/** One event of a running copy. `bytes` and `place` are of the piece just finished. */
export interface CopyStep {
  readonly phase: CopyPhase
  readonly bytes: number
  readonly piece?: Piece
}

export interface CopyOptions {
  readonly digest: Digest
  /** Written into the target's first sector until the copy has ended. */
  readonly note: string
  /** Told after every piece; may delay, which is how pace and pause are made. Rejecting ends the copy. */
  readonly onStep: (step: CopyStep) => Promise<void>
  /** Asked before every piece; throw from it to stop. */
  readonly checkpoint?: () => void
}

/** What a finished copy can show for itself. */
export interface CopyOutcome {
  readonly copiedBytes: number
  /** Of these, read from the source and written; the rest is known to be zeros on both drives. */
  readonly writtenBytes: number
  readonly checkedBytes: number
  /** SHA-256 over the digests of everything copied, in order. */
  readonly digest: string
  /** What the source did not give, in order; zeros stand in its place. */
  readonly lost: readonly Lost[]
  readonly bufferBytes: number
}

/** The check found bytes on the target that are not those of the source. */
export class CheckFailed extends CoreError {
  override readonly name = 'CheckFailed'
  constructor(
    readonly offset: number,
    readonly length: number,
    sectorSize: number,
  ) {
    super(
      `The target does not give back what was written to it, from sector ${offset / sectorSize} on. It stays marked as unfinished; the source is untouched.`,
    )
  }
}

/** Most pieces that are left for later without being tried, in a stretch where nothing reads. */
const MOST_SKIPPED = 63

/** Buffers in flight: reading one piece while the ones before it are written. */
const BUFFERS = 4

/**
 * Carries out a plan: marks the target as unfinished, moves every piece with reading and writing overlapped,
 * reads everything back and compares digests, and only then writes the partition tables, the first sector
 * last. On any error the target keeps its mark. Buffers never exceed BUFFERS pieces, whatever the drives' size.
 */
export async function runCopy(plan: CopyPlan, target: BlockDevice, options: CopyOptions): Promise<CopyOutcome> {
  if (target.size !== plan.expected.size || target.logicalSectorSize !== plan.expected.logicalSectorSize) {
    throw new CoreError('The target is not the drive this fit was made for.')
  }
  const pool = new BufferPool(BUFFERS, PIECE_BYTES)
  const blank = await eraseTarget(plan, target, options)
  const spans: Uint8Array[] = []
  const { writtenBytes, lost } = await copyPieces(plan, target, options, pool, blank, spans)
  const checkedBytes = await checkPieces(plan, target, options, pool, spans)
  await writeTables(plan, target, options)
  const all = new Uint8Array(spans.length * 32)
  spans.forEach((digest, i) => all.set(digest, i * 32))
  return {
    copiedBytes: plan.totalBytes,
    writtenBytes,
    checkedBytes,
    digest: toHex(options.digest(all)),
    lost: await nameLost(plan, lost),
    bufferBytes: BUFFERS * PIECE_BYTES,
  }
}

/** Returns true when the whole target now reads as zeros. */
async function eraseTarget(plan: CopyPlan, target: BlockDevice, options: CopyOptions): Promise<boolean> {
  options.checkpoint?.()
  // The mark goes first: from here on nobody may take the target for what it was.
  const marker = unfinishedMarker(target.logicalSectorSize, options.note)
  await target.write(0, marker)
  await target.flush()
  if (target.discard) {
    await target.discard(marker.length, target.size - marker.length)
  } else {
    for (const { offset, bytes } of plan.tables) {
      if (offset > 0) await target.write(offset, new Uint8Array(bytes.length))
    }
  }
  await target.flush()
  await options.onStep({ phase: 'erase', bytes: 0 })
  return target.discard !== undefined
}

async function copyPieces(
  plan: CopyPlan,
  target: BlockDevice,
  options: CopyOptions,
  pool: BufferPool,
  blank: boolean,
  spans: Uint8Array[],
): Promise<{ writtenBytes: number; lost: Extent[] }> {
  const open: { span: Span; index: number }[] = []
  const rolling = new SpanDigests((span) => {
    const whole = span.digests.every((d) => d !== undefined)
    if (!whole) open.push({ span, index: spans.length })
    spans.push(whole ? spanDigest(span, options.digest) : new Uint8Array(32))
  })
  const later: Piece[] = []
  const trouble = new Trouble()
  let writtenBytes = 0
  let failure: unknown
  let writing: Promise<void> = Promise.resolve()
  try {
    for await (const piece of plan.pieces()) {
      options.checkpoint?.()
      if (failure) break
      if (piece.zero) {
        await rolling.add(piece, zeroDigest(piece.length))
        if (!blank) {
          const zeros = new Uint8Array(piece.length)
          writing = writing.then(() => target.write(piece.offset, zeros))
          await writing
          writtenBytes += piece.length
        }
        await options.onStep({ phase: 'copy', bytes: piece.length, piece })
        continue
      }
      const buffer = await pool.take()
      const bytes = buffer.subarray(0, piece.length)
      if (!(await trouble.reads(plan.expected, piece.offset, bytes))) {
        // What reads well comes first; a drive that fails may not last.
        pool.give(buffer)
        later.push(piece)
        await rolling.add(piece, undefined)
        continue
      }
      await rolling.add(piece, pieceDigest(bytes, options.digest))
      if (blank && isZero(bytes)) {
        // It reads as zeros on the erased target already.
        pool.give(buffer)
      } else {
        writtenBytes += piece.length
        // Not awaited here: the next piece is read while this one is written.
        writing = writing
          .then(() => (failure ? undefined : target.write(piece.offset, bytes)))
          .catch((error: unknown) => void (failure ??= error))
          .finally(() => pool.give(buffer))
      }
      await options.onStep({ phase: 'copy', bytes: piece.length, piece })
    }
  } finally {
    await writing
  }
  if (failure) throw failure
  await rolling.close()
  const lost: Extent[] = []
  const digests = new Map<number, Uint8Array>()
  for (const piece of later) {
    options.checkpoint?.()
    const buffer = await pool.take()
    try {
      const bytes = buffer.subarray(0, piece.length)
      lost.push(...(await readAround(plan.expected, piece.offset, bytes)))
      digests.set(piece.offset, pieceDigest(bytes, options.digest))
      if (!blank || !isZero(bytes)) {
        await target.write(piece.offset, bytes)
        writtenBytes += piece.length
      }
    } finally {
      pool.give(buffer)
    }
    await options.onStep({ phase: 'copy', bytes: piece.length, piece })
  }
  for (const { span, index } of open) {
    span.pieces.forEach((piece, i) => (span.digests[i] ??= digests.get(piece.offset)))
    spans[index] = spanDigest(span, options.digest)
  }
  await target.flush()
  return { writtenBytes, lost }
}

/** Reads pieces, and leaves out more and more of them without trying while one after the other fails. */
class Trouble {
  private failed = 0
  private skip = 0

  async reads(device: BlockDevice, offset: number, into: Uint8Array): Promise<boolean> {
    if (this.skip > 0) {
      this.skip--
      return false
    }
    try {
      await device.read(offset, into)
      this.failed = 0
      return true
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      this.skip = Math.min(MOST_SKIPPED, 2 ** this.failed++ - 1)
      return false
    }
  }
}

async function checkPieces(
  plan: CopyPlan,
  target: BlockDevice,
  options: CopyOptions,
  pool: BufferPool,
  spans: readonly Uint8Array[],
): Promise<number> {
  let checked = 0
  let index = 0
  const buffer = await pool.take()
  const rolling = new SpanDigests(async (span) => {
    const expected = spans[index++]
    if (!expected || !equal(expected, spanDigest(span, options.digest))) throw await locate(plan, target, span.pieces)
  })
  try {
    for await (const piece of plan.pieces()) {
      options.checkpoint?.()
      await rolling.add(piece, await targetDigest(target, piece, buffer, options.digest))
      checked += piece.length
      await options.onStep({ phase: 'check', bytes: piece.length, piece })
    }
    await rolling.close()
  } finally {
    pool.give(buffer)
  }
  return checked
}

async function writeTables(plan: CopyPlan, target: BlockDevice, options: CopyOptions): Promise<void> {
  options.checkpoint?.()
  for (const { offset, bytes } of plan.tables) {
    // The first sector replaces the mark, so everything before it must have reached the medium.
    if (offset === 0) await target.flush()
    await target.write(offset, bytes)
  }
  await target.flush()
  for (const { offset, bytes } of plan.tables) {
    const back = new Uint8Array(bytes.length)
    await target.read(offset, back)
    if (!equal(back, bytes)) {
      await target.write(0, unfinishedMarker(target.logicalSectorSize, options.note))
      throw new CheckFailed(offset, bytes.length, target.logicalSectorSize)
    }
    await options.onStep({ phase: 'tables', bytes: bytes.length })
  }
}

async function targetDigest(
  target: BlockDevice,
  piece: Piece,
  buffer: Uint8Array,
  digest: Digest,
): Promise<Uint8Array> {
  if (target.mapped && (await target.mapped(piece.offset, piece.length)).length === 0) return zeroDigest(piece.length)
  const bytes = buffer.subarray(0, piece.length)
  await target.read(piece.offset, bytes)
  return pieceDigest(bytes, digest)
}

/** Finds the piece of a span that differs, by reading both sides again. */
async function locate(plan: CopyPlan, target: BlockDevice, pieces: readonly Piece[]): Promise<CheckFailed> {
  const sector = target.logicalSectorSize
  for (const { offset, length } of pieces) {
    const wanted = new Uint8Array(length)
    const found = new Uint8Array(length)
    await readAround(plan.expected, offset, wanted)
    await target.read(offset, found)
    const first = wanted.findIndex((byte, i) => byte !== found[i])
    if (first >= 0) return new CheckFailed(offset + Math.floor(first / sector) * sector, length, sector)
  }
  // Both sides agree now: one of the two readings was not to be trusted.
  return new CheckFailed(pieces[0].offset, pieces[0].length, sector)
}

/** Zeros have a digest of their own form, so that telling them needs no hashing. */
function zeroDigest(length: number): Uint8Array {
  const bytes = new Uint8Array(32)
  new DataView(bytes.buffer).setBigUint64(24, BigInt(length))
  return bytes
}

function pieceDigest(bytes: Uint8Array, digest: Digest): Uint8Array {
  return isZero(bytes) ? zeroDigest(bytes.length) : digest(bytes)
}

function equal(a: Uint8Array, b: Uint8Array): boolean {
  return a.length === b.length && a.every((byte, i) => byte === b[i])
}
