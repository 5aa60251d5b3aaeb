import { type BlockDevice, isZero, readBytes, UnreadableSectors } from '../block/device'
import type { Digest } from '../digest'
import { CoreError } from '../errors'
import { BufferPool } from './buffers'
import { sameBytes } from '../bytes/same'
import { CheckFailed, checkPieces } from './check'
import { type CopyJournal, type CopyState, freshState, toBase64 } from './journal'
import { nameLost } from './lost'
import { type Mark, readMarker, unfinishedMarker } from './marker'
import { pieceDigest, zeroDigest } from './piece-digests'
import { type CopyPlan, type Piece, PIECE_BYTES } from './plan'
import type { Lost } from './progress'
import { readAround, type RescueLimits, USUAL_LIMITS } from './rescue'
import { Targets } from './targets'

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

/** Most pieces that are left for later without being tried, in a stretch where nothing reads. */
const MOST_SKIPPED = 63

/** Buffers in flight: reading one piece while the ones before it are written. */
const BUFFERS = 4

/** So many pieces are written before they are made sure. */
export const SURE_PIECES = 64

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
 * partition tables, the first sector last. On any error the targets keep their mark. Buffers never exceed BUFFERS
 * pieces, and one more for each target when it is read back, whatever the drives' size.
 */
export async function runCopy(
  plan: CopyPlan,
  target: BlockDevice | readonly BlockDevice[],
  options: CopyOptions,
): Promise<CopyOutcome> {
  const devices = 'read' in target ? [target] : target
  const verify = options.from?.verify ?? options.verify ?? true
  const state = options.from ?? freshState(options.job ?? '', options.work ?? '', verify)
  if (options.from && options.work !== state.work) {
    throw new NotItsTarget('What this copy was made from has changed since it was cut off. Start the copy over.')
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
  if (options.from) await expectOwnTargets(run)
  else await options.journal?.append({ did: 'begin', job: state.job, work: state.work, verify })
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
    rewritten,
    lost: await nameLost(plan, state.lost),
    bufferBytes: (BUFFERS + 2 * targets.now.length) * PIECE_BYTES,
    letGo: targets.gone,
  }
  return outcome
}

const markOf = ({ options }: Run): Mark => ({ note: options.note, ...(options.job ? { job: options.job } : {}) })

/**
 * A copy goes on only with what it began on: each target carries its mark, or at the very end its new table. One that
 * was cut off before it marked its target has to be started over, since nothing tells whose that is.
 */
async function expectOwnTargets(run: Run): Promise<void> {
  const { plan, targets, state } = run
  await targets.each(async (device) => {
    const mark = await readMarker(device)
    if (mark ? mark.job === state.job : state.erased && (await carriesTable(device, plan.tables))) return
    throw new NotItsTarget('The target does not carry the mark of this copy any more, so nothing was written to it.')
  })
}

/** The device's first sector is the one that a copy ends with. */
export async function carriesTable(device: BlockDevice, tables: CopyPlan['tables']): Promise<boolean> {
  const first = tables.find((t) => t.offset === 0)
  return first !== undefined && sameBytes(await readBytes(device, 0, first.bytes.length), first.bytes)
}

async function eraseTargets(run: Run): Promise<void> {
  const { plan, targets, options, state } = run
  options.checkpoint?.()
  // The mark goes first: from here on nobody may take the target for what it was.
  const marker = unfinishedMarker(targets.sectorSize, markOf(run))
  await targets.write(0, marker)
  await targets.flush()
  state.blank = targets.forget
  await targets.each(async (device) => {
    if (state.blank) await device.discard!(marker.length, device.size - marker.length)
    else {
      for (const { offset, bytes } of plan.tables) {
        if (offset > 0) await device.write(offset, new Uint8Array(bytes.length))
      }
    }
  })
  await targets.flush()
  await options.journal?.append({ did: 'erase', blank: state.blank })
  await options.onStep({ phase: 'erase', bytes: 0 })
}

async function copyPieces(run: Run): Promise<void> {
  const { plan, targets, options, pool, state } = run
  const { digest } = options
  const later: { index: number; piece: Piece }[] = []
  const trouble = new Trouble()
  let failure: unknown
  let writing: Promise<void> = Promise.resolve()
  const sure = new Sure(run, () => writing)
  // What was underway when a copy was cut off may stand on the target in part.
  const soiled = state.pieces > 0 || options.from ? state.pieces + 3 * SURE_PIECES + BUFFERS : 0
  let index = -1
  try {
    for await (const piece of plan.pieces()) {
      index++
      if (index < state.pieces) {
        if (state.later.has(index)) later.push({ index, piece })
        else await options.onStep({ phase: 'copy', bytes: piece.length, piece, before: true })
        continue
      }
      options.checkpoint?.()
      if (failure) break
      const blank = state.blank && index >= soiled
      if (piece.zero) {
        state.digests.set(index, zeroDigest(piece.length))
        if (!state.blank) {
          const zeros = new Uint8Array(piece.length)
          writing = writing.then(() => targets.write(piece.offset, zeros))
          await writing
          state.writtenBytes += piece.length
        }
      } else {
        const buffer = await pool.take()
        const bytes = buffer.subarray(0, piece.length)
        if (!(await trouble.reads(plan.expected, piece.offset, bytes))) {
          // What reads well comes first; a drive that fails may not last.
          pool.give(buffer)
          later.push({ index, piece })
          state.digests.set(index, zeroDigest(0))
          await sure.reached(index + 1, index)
          continue
        }
        const kept = state.verify ? pieceDigest(bytes, digest) : zeroDigest(0)
        state.digests.set(index, kept)
        if (blank && isZero(bytes)) {
          // It reads as zeros on the erased target already.
          pool.give(buffer)
        } else {
          state.writtenBytes += piece.length
          // Not awaited here: the next piece is read while this one is written.
          writing = writing
            .then(() => (failure ? undefined : targets.write(piece.offset, bytes)))
            .catch((error: unknown) => void (failure ??= error))
            .finally(() => pool.give(buffer))
        }
      }
      await sure.reached(index + 1)
      await options.onStep({ phase: 'copy', bytes: piece.length, piece })
    }
  } finally {
    await writing
    await sure.settled().catch((error: unknown) => void (failure ??= error))
  }
  if (failure) throw failure
  await sure.all(index + 1)
  for (const { index, piece } of later) await rescue(run, index, piece)
  await targets.flush()
  await options.journal?.append({ did: 'copy all' })
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

/** Makes what was written sure, every so many pieces, while the next ones are under way. */
class Sure {
  private marked: number
  private later: number[] = []
  private under: Promise<void> | undefined
  private failure: unknown

  constructor(
    private readonly run: Run,
    private readonly written: () => Promise<void>,
  ) {
    this.marked = run.state.pieces
  }

  /** The first `pieces` are written or on their way; `later` names one that did not read. */
  async reached(pieces: number, later?: number): Promise<void> {
    if (!this.run.options.journal) return
    if (later !== undefined) this.later.push(later)
    if (pieces - this.marked < SURE_PIECES) return
    await this.settled()
    this.begin(pieces)
  }

  /** The last, shorter stretch. */
  async all(pieces: number): Promise<void> {
    if (!this.run.options.journal || pieces <= this.marked) return
    await this.settled()
    this.begin(pieces)
    await this.settled()
  }

  async settled(): Promise<void> {
    await this.under
    if (this.failure) throw this.failure
  }

  private begin(pieces: number): void {
    const { state, targets, options } = this.run
    const from = this.marked
    const digests = toBase64(state.digests.slice(from, pieces))
    const record = { did: 'copy' as const, pieces, digests, later: this.later, written: state.writtenBytes }
    this.marked = pieces
    this.later = []
    this.under = this.written()
      .then(() => targets.flush())
      .then(() => options.journal!.append(record))
      .catch((error: unknown) => void (this.failure ??= error))
  }
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

async function writeTables(run: Run): Promise<void> {
  const { plan, targets, options } = run
  options.checkpoint?.()
  // The first sector replaces the mark, so everything before it must have reached the medium.
  for (const { offset, bytes } of plan.tables) {
    if (offset === 0) await targets.flush()
    await targets.write(offset, bytes)
  }
  await targets.flush()
  await targets.each(async (device) => {
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
