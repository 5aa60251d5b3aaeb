import { type BlockDevice, isZero, readBytes } from '../block/device'
import { partsOf } from '../block/extents'
import { dataRuns } from '../block/data-runs'
import { readAround, type RescueLimits, USUAL_LIMITS } from '../block/read-around'
import { toBase64 } from '../bytes/base64'
import { sameBytes } from '../bytes/same'
import type { Digest } from '../digest'
import { CoreError, NotSupported } from '../errors'
import { type Mark, markIn, readMarker, unfinishedMarker } from '../survey/marker'
import { BadRegionSkipper } from './bad-region-skipper'
import { BufferPool } from './buffers'
import { CheckFailed, checkPieces } from './check'
import { CHECKPOINT_PIECES, Checkpointer, WriteQueue } from './checkpointer'
import { type CopyJournal, type CopyState, freshState } from './journal'
import { nameLost } from './lost'
import type { TargetMedium } from '../block/medium'
import { DIVISION, PIECE_BYTES } from './division'
import { holdsNothing, pieceDigest, zeroDigest } from './piece-digests'
import type { CopyPlan, Piece } from './plan'
import type { Lost } from './progress'
import { expectSameMetadata, expectSamePieces, metadataDigests, type Recheck } from './source-binding'
import { Targets } from './targets'
import { withTables } from './whole'

/** What a copy is doing: erasing, copying, reading around trouble, reading back, writing the tables. */
export type CopyPhase = 'erase' | 'copy' | 'rescue' | 'check' | 'tables'

/** One event of a running copy. `bytes` and `place` are of the piece just finished. */
export interface CopyStep {
  readonly phase: CopyPhase
  readonly bytes: number
  readonly piece?: Piece
  /** It was done before this copy was cut off, and took no time now. */
  readonly before?: boolean
}

export interface CopyOptions {
  readonly digest: Digest
  /** Written into the target's first sector until the copy has ended. */
  readonly note: string
  /** Told after every piece; may delay, which is how pace and pause are made. Rejecting ends the copy. */
  readonly onStep: (step: CopyStep) => Promise<void>
  /** Asked before every piece; throw from it to stop. */
  readonly checkpoint?: () => void
  /**
   * Asked when everything but the tables is on the target; rejecting leaves it marked as unfinished. The last moment
   * at which the source can be found to have changed.
   */
  readonly beforeTables?: () => Promise<void>
  /** Reads everything back and compares; true when absent. */
  readonly verify?: boolean
  readonly rescue?: RescueLimits
  /** Where it keeps what is sure, so that it can go on after having been cut off. */
  readonly journal?: CopyJournal
  /** Names this copy on its target. */
  readonly job?: string
  /** Digest of all that decides what this copy writes. */
  readonly work?: string
  /** Where the journal says that it is; absent for a copy that begins. */
  readonly from?: CopyState
  /** What a resume compares of the pieces that were copied before; a sample of them when absent. */
  readonly recheck?: Recheck
  /** Told when one of several targets is let go. */
  readonly onLetGo?: (target: number, why: string) => void
  /** Told when pieces that read back differently were written again. */
  readonly onRewrite?: (pieces: number) => void
}

/** What a finished copy can show for itself. */
export interface CopyOutcome {
  readonly copiedBytes: number
  /** Of these, read from the source and written; the rest is known to be zeros on both drives. */
  readonly writtenBytes: number
  readonly checkedBytes: number
  /** Over the digests of everything copied, in order; empty when nothing was read back. */
  readonly digest: string
  /** The beginnings of the digests of all pieces that were copied, in order. */
  readonly pieceDigests: Uint8Array
  /** Pieces that read back differently at first and were written a second time. */
  readonly rewritten: number
  /** What the source did not give, in order; zeros stand in its place. */
  readonly lost: readonly Lost[]
  readonly bufferBytes: number
  /** Of several targets, those that were let go, with the reason. */
  readonly letGo: ReadonlyMap<number, string>
}

/** The target is not the one that the copy was cut off on. */
export class NotItsTarget extends CoreError {
  override readonly name = 'NotItsTarget'
}

/** Buffers in flight: reading one piece while the ones before it are written. */
const BUFFERS = 4

/** Only ever read. */
const ZEROS = new Uint8Array(PIECE_BYTES)

/** The copy has come to its end, so what is on its target belongs to whoever has used that since. */
export class CopyEnded extends CoreError {
  override readonly name = 'CopyEnded'
  constructor() {
    super('This copy has ended, so there is nothing to resume. Nothing was written to the target.')
  }
}

/** What one run of a copy works with. */
interface Run {
  readonly plan: CopyPlan
  readonly targets: Targets
  readonly options: CopyOptions
  readonly pool: BufferPool
  readonly state: CopyState
}

/**
 * Carries out a plan on one target, or on several of one size in one reading: marks them as unfinished, moves every
 * piece with reading and writing overlapped, reads everything back and compares digests, and only then writes the
 * partition tables, the first sector last, or finishes the image. On any error the targets keep their mark. Buffers
 * never exceed BUFFERS pieces, and one more for each target when it is read back, whatever the drives' size.
 */
export async function runCopy(
  given: CopyPlan,
  target: TargetMedium | readonly TargetMedium[],
  options: CopyOptions,
): Promise<CopyOutcome> {
  const devices = 'read' in target ? [target] : target
  const plan = devices.some((device) => device.header) ? await withTables(given) : given
  const verify = options.from?.verify ?? options.verify ?? true
  const state = options.from ?? freshState(options.job ?? '', options.work ?? '', verify)
  if (options.from && options.work !== state.work) {
    throw new NotItsTarget('What this copy was made from has changed since it was cut off. Start the copy over.')
  }
  if (options.from && state.division !== DIVISION) {
    throw new NotItsTarget(
      'This copy was cut off under another version of Imbarco, which divides its work in another way. Start the copy over.',
    )
  }
  const targets = new Targets(devices, state.letGo, async (index, why) => {
    options.onLetGo?.(index, why)
    await options.journal?.append({ did: 'let go', target: index, why })
  })
  if (targets.size !== plan.expected.size || targets.sectorSize !== plan.expected.logicalSectorSize) {
    throw new CoreError('The target is not the drive this fit was made for.')
  }
  const pool = new BufferPool(BUFFERS, PIECE_BYTES)
  const run: Run = { plan, targets, options, pool, state }
  if (options.from) await expectResumable(run, options.from)
  else if (options.journal) {
    const metadata = await metadataDigests(plan, options.digest)
    await options.journal.append({
      did: 'begin',
      job: state.job,
      work: state.work,
      division: DIVISION,
      verify,
      metadata,
    })
  }
  if (!state.erased) await eraseTargets(run)
  if (!state.copied) await copyPieces(run)
  let rewritten = 0
  if (verify && !state.equal) {
    rewritten = await checkPieces(run)
    await options.journal?.append({ did: 'check all' })
  }
  await writeTables(run)
  await options.journal?.append({ did: 'end' })
  const outcome = {
    copiedBytes: plan.totalBytes,
    writtenBytes: state.writtenBytes,
    checkedBytes: verify ? plan.totalBytes : 0,
    digest: verify ? state.digests.whole(options.digest) : '',
    pieceDigests: state.digests.slice(0, state.digests.length),
    rewritten,
    lost: await nameLost(plan, [...plan.lostOfTables, ...state.lost]),
    bufferBytes: (BUFFERS + 2 * targets.now.length) * PIECE_BYTES,
    letGo: targets.gone,
  }
  return outcome
}

const markOf = ({ options }: Run): Mark => ({ note: options.note, ...(options.job ? { job: options.job } : {}) })

/** A copy that was cut off goes on only where nothing that it rests on has changed. */
async function expectResumable(run: Run, from: CopyState): Promise<void> {
  const { plan, targets, options } = run
  if (from.ended) throw new CopyEnded()
  await expectOwnTargets(run)
  if (from.metadata !== undefined) await expectSameMetadata(plan, options.digest, from.metadata)
  const devices = targets.now.map(({ device }) => device)
  await expectSamePieces(plan, devices, from, options.digest, options.recheck ?? 'sample')
}

/**
 * A copy goes on only with what it began on: each target carries its mark, or at the very end its new table. One that
 * was cut off before it marked its target has to be started over, since nothing tells whose that is.
 */
async function expectOwnTargets(run: Run): Promise<void> {
  const { plan, targets, state } = run
  await targets.each(async (device) => {
    const { header } = device
    const mark = header ? markIn(await header.read()) : await readMarker(device)
    const isWhole = () => (header ? header.isFinished() : carriesTable(device, plan.tables))
    if (mark ? mark.job === state.job : state.erased && (await isWhole())) return
    throw new NotItsTarget('The target does not carry the mark of this copy any more, so nothing was written to it.')
  })
}

/** The device carries every table that a copy ends with, as it was written. */
export async function carriesTable(device: BlockDevice, tables: CopyPlan['tables']): Promise<boolean> {
  for (const { offset, bytes } of tables) {
    if (!sameBytes(await readBytes(device, offset, bytes.length), bytes)) return false
  }
  return tables.some((t) => t.offset === 0)
}

async function eraseTargets(run: Run): Promise<void> {
  const { plan, targets, options, state } = run
  options.checkpoint?.()
  // The mark goes first: from here on nobody may take the target for what it was.
  const marker = unfinishedMarker(targets.sectorSize, markOf(run))
  await targets.mark(marker)
  state.blank = targets.forget && targets.now.every(({ device }) => isWorthForgetting(device, plan))
  await targets.each(async (device) => {
    if (!state.blank) return
    const kept = device.header ? 0 : marker.length
    await device.discard!(kept, device.size - kept).catch((error: unknown) => {
      if (!(error instanceof NotSupported)) throw error
      // One that does not do what it promised holds what it held, and so nothing is taken for blank.
      state.blank = false
    })
  })
  if (!state.blank)
    await targets.each(async (device) => {
      for (const { offset, bytes } of plan.tables)
        if (offset > 0) await device.write(offset, new Uint8Array(bytes.length))
    })
  await targets.flush()
  await options.journal?.append({ did: 'erase', blank: state.blank })
  await options.onStep({ phase: 'erase', bytes: 0 })
}

/** One that does not tell what it holds is told to forget it where most of it is not written over anyway. */
const isWorthForgetting = ({ mapped, size }: BlockDevice, { totalBytes }: CopyPlan) =>
  mapped !== undefined || totalBytes < size / 2

async function copyPieces(run: Run): Promise<void> {
  const { plan, targets, options, pool, state } = run
  const { digest } = options
  const later: { index: number; piece: Piece }[] = []
  const skipper = new BadRegionSkipper()
  const writes = new WriteQueue()
  const checkpoints = new Checkpointer({ state, targets, journal: options.journal }, writes)
  // A piece is compared when it is read back, and when the copy is resumed.
  const keepsDigests = state.verify || options.journal !== undefined
  // Pieces in flight when it was interrupted may be partly written, so they are not taken for blank.
  const uncertain = state.pieces > 0 || options.from ? state.pieces + 3 * CHECKPOINT_PIECES + BUFFERS : 0
  let index = -1
  let bytesTo = 0
  let failure: { readonly error: unknown } | undefined
  try {
    for await (const piece of plan.pieces()) {
      index++
      bytesTo += piece.length
      if (index < state.pieces) {
        if (state.later.has(index)) later.push({ index, piece })
        else await options.onStep({ phase: 'copy', bytes: piece.length, piece, before: true })
        continue
      }
      options.checkpoint?.()
      if (writes.failed) break
      const blank = state.blank && index >= uncertain
      if (piece.zero || (await holdsNothing(plan.expected, piece))) {
        state.digests.set(index, zeroDigest(piece.length))
        // What may have been in hand when it was cut off is zeroed only where a target holds something.
        if (!blank && !(state.blank && (await targets.holdNothing(piece)))) {
          for (const { offset, length } of partsOf(piece, PIECE_BYTES)) {
            options.checkpoint?.()
            writes.push(() => targets.write(offset, ZEROS.subarray(0, length)))
            await writes.settled()
          }
          state.writtenBytes += piece.length
        }
      } else {
        const buffer = await pool.take()
        const bytes = buffer.subarray(0, piece.length)
        let read: boolean
        try {
          read = await skipper.reads(plan.expected, piece.offset, bytes)
        } catch (error) {
          pool.give(buffer)
          throw error
        }
        if (!read) {
          // What reads well comes first; a drive that fails may not last.
          pool.give(buffer)
          later.push({ index, piece })
          state.digests.set(index, zeroDigest(0))
          await checkpoints.reached(index + 1, bytesTo, index)
          continue
        }
        state.digests.set(index, keepsDigests ? pieceDigest(bytes, digest) : zeroDigest(0))
        if (blank && isZero(bytes)) {
          // It reads as zeros on the erased target already.
          pool.give(buffer)
        } else {
          state.writtenBytes += piece.length
          // Not awaited here: the next piece is read while this one is written.
          writes.push(
            () => (blank ? writeRuns(targets, piece.offset, bytes) : targets.write(piece.offset, bytes)),
            () => pool.give(buffer),
          )
        }
      }
      await checkpoints.reached(index + 1, bytesTo)
      await options.onStep({ phase: 'copy', bytes: piece.length, piece })
    }
  } catch (error) {
    failure = { error }
  }
  // Whatever ended it, nothing may still be under way when this returns; the first thing that went wrong is told.
  await writes.settled().catch((error: unknown) => void (failure ??= { error }))
  await checkpoints.settled().catch((error: unknown) => void (failure ??= { error }))
  if (failure) throw failure.error
  await checkpoints.all(index + 1, bytesTo)
  for (const { index, piece } of later) await rescue(run, index, piece)
  await targets.flush()
  await options.journal?.append({ did: 'copy all' })
}

/** Writes what of a piece is not zeros onto targets that are blank there. */
async function writeRuns(targets: Targets, offset: number, bytes: Uint8Array): Promise<void> {
  for (const run of dataRuns(bytes, offset))
    await targets.write(offset + run.offset, bytes.subarray(run.offset, run.offset + run.length))
}

/** Reads what it can of a piece that did not read at first. */
async function rescue(run: Run, index: number, piece: Piece): Promise<void> {
  const { plan, targets, options, pool, state } = run
  options.checkpoint?.()
  const buffer = await pool.take()
  try {
    const bytes = buffer.subarray(0, piece.length)
    const lost = await readAround(plan.expected, piece.offset, bytes, options.rescue ?? USUAL_LIMITS)
    const kept = pieceDigest(bytes, options.digest)
    if (!state.blank || options.from || !isZero(bytes)) {
      await targets.write(piece.offset, bytes)
      state.writtenBytes += piece.length
    }
    state.digests.set(index, kept)
    state.lost.push(...lost)
    if (options.journal) {
      await targets.flush()
      const { writtenBytes: written } = state
      await options.journal.append({ did: 'rescue', piece: index, digest: toBase64(kept), lost: [...lost], written })
    }
  } finally {
    pool.give(buffer)
  }
  await options.onStep({ phase: 'rescue', bytes: piece.length, piece })
}

async function writeTables(run: Run): Promise<void> {
  const { plan, targets, options } = run
  options.checkpoint?.()
  await options.beforeTables?.()
  // The first sector replaces the mark, so everything before it must have reached the medium.
  for (const { offset, bytes } of plan.tables) {
    if (offset === 0) await targets.flush()
    await targets.write(offset, bytes)
  }
  await targets.flush()
  await targets.each(async (device) => device.header?.finish())
  await targets.each(async (device) => {
    await device.uncache?.()
    for (const { offset, bytes } of plan.tables) {
      const back = new Uint8Array(bytes.length)
      await device.read(offset, back)
      if (sameBytes(back, bytes)) continue
      await device.write(0, unfinishedMarker(targets.sectorSize, markOf(run)))
      throw new CheckFailed([{ offset, length: bytes.length }], targets.sectorSize)
    }
  })
  for (const { bytes } of plan.tables) await options.onStep({ phase: 'tables', bytes: bytes.length })
}
