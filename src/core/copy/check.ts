import type { BlockDevice, Extent } from '../block/device'
import { partsOf } from '../block/extents'
import type { Digest } from '../digest'
import { sameBytes } from '../bytes/same'
import { CoreError } from '../errors'
import { BufferPool } from './buffers'
import type { CopyJournal, CopyState } from './journal'
import { PIECE_BYTES } from './division'
import { digestOn, joinedDigest, type PartDigest, pieceDigest } from './piece-digests'
import type { CopyPlan, Piece } from './plan'
import { readAround } from '../block/read-around'
import type { CopyStep } from './run'
import type { Targets } from './targets'

/** The check found bytes on the target that are not those of the source, and writing them again did not mend it. */
export class CheckFailed extends CoreError {
  override readonly name = 'CheckFailed'
  /** Byte of the first sector that differs. */
  readonly offset: number

  constructor(
    /** Every place that differs, in order. */
    readonly places: readonly Extent[],
    sectorSize: number,
  ) {
    const [{ offset }] = places
    const more = places.length > 1 ? `, in ${places.length} places` : ''
    super(
      `The target does not give back what was written to it, from sector ${offset / sectorSize} on${more}. It stays marked as unfinished; the source is untouched.`,
    )
    this.offset = offset
  }
}

/** So many places are named of a target that gives back something else everywhere. */
const MOST_PLACES = 1000

/** Pieces between two lines of the journal. */
const SURE_CHECKED = 512

interface Check {
  readonly plan: CopyPlan
  readonly targets: Targets
  readonly state: CopyState
  readonly options: {
    readonly digest: Digest
    readonly journal?: CopyJournal
    readonly onStep: (step: CopyStep) => Promise<void>
    readonly checkpoint?: () => void
    readonly onRewrite?: (pieces: number) => void
  }
}

/**
 * Reads back all that was written and compares it with the digests taken on the way, the next piece being read while
 * one is compared. Pieces that differ are written again once. Returns how many; throws CheckFailed when they differ
 * again. A target among several that fails so is let go.
 */
export async function checkPieces(check: Check): Promise<number> {
  const { plan, targets, state, options } = check
  const pool = new BufferPool(2 * targets.now.length, PIECE_BYTES)
  const buffers = await Promise.all([0, 1].map(() => Promise.all(targets.now.map(() => pool.take()))))
  const found: number[] = []
  // An image is read as anybody will read it, by what stands in its file.
  const readers = new Map<number, BlockDevice>()
  await targets.each(async (device, index) => {
    await device.uncache?.()
    readers.set(index, device.header ? await device.header.readBack() : device)
  })
  let bytesTo = 0
  let ahead: { index: number; piece: Piece; digests: Promise<number[]> } | undefined
  const compare = async () => {
    if (!ahead) return
    const { index, piece, digests } = ahead
    ahead = undefined
    bytesTo += piece.length
    if ((await digests).length > 0) found.push(index)
    if (found.length > MOST_PLACES) throw await failure(check, found, index)
    if ((index + 1) % SURE_CHECKED === 0 && options.journal) {
      const differ = found.filter((i) => i >= state.checked)
      state.checked = index + 1
      await options.journal.append({ did: 'check', pieces: index + 1, bytes: bytesTo, differ })
    }
    await options.onStep({ phase: 'check', bytes: piece.length, piece })
  }
  let index = -1
  try {
    for await (const piece of plan.pieces()) {
      index++
      if (index < state.checked) {
        bytesTo += piece.length
        if (state.differ.includes(index)) found.push(index)
        await options.onStep({ phase: 'check', bytes: piece.length, piece, before: true })
        continue
      }
      options.checkpoint?.()
      const digests = differing(check, piece, index, { readers, buffers: buffers[index % 2] })
      // Its failure is met where it is awaited.
      digests.catch(() => {})
      await compare()
      ahead = { index, piece, digests }
    }
    await compare()
  } finally {
    await ahead?.digests.catch(() => {})
  }
  if (found.length > 0) await writeAgain(check, new Set(found))
  return found.length
}

/** The targets on which a piece is not what was written. */
async function differing(
  { targets, state, options }: Check,
  piece: Piece,
  index: number,
  { readers, buffers }: { readers: ReadonlyMap<number, BlockDevice>; buffers: readonly Uint8Array[] },
): Promise<number[]> {
  const differ: number[] = []
  let next = 0
  await targets.each(async (_, target) => {
    const into = buffers[next++]
    const reader = readers.get(target)!
    if (!state.digests.is(index, await digestOn(reader, piece, into, options.digest))) differ.push(target)
  })
  return differ
}

async function writeAgain(check: Check, indices: ReadonlySet<number>): Promise<void> {
  const { plan, targets, state, options } = check
  options.onRewrite?.(indices.size)
  const wanted = new Uint8Array(PIECE_BYTES)
  const back = new Uint8Array(PIECE_BYTES)
  const places = new Map<number, Extent[]>()
  let index = -1
  for await (const piece of plan.pieces()) {
    if (!indices.has(++index)) continue
    options.checkpoint?.()
    const given: PartDigest[] = []
    for (const part of partsOf(piece, PIECE_BYTES)) {
      const bytes = wanted.subarray(0, part.length)
      await readAround(plan.expected, part.offset, bytes)
      given.push({ length: part.length, digest: pieceDigest(bytes, options.digest) })
      for (const { device, index: target } of targets.now) {
        const found = back.subarray(0, part.length)
        await device.read(part.offset, found)
        if (sameBytes(bytes, found)) continue
        await device.write(part.offset, bytes)
        await device.flush()
        // Memory would give back what the medium has forgotten once more.
        await device.uncache?.()
        await (device.header ? await device.header.readBack() : device).read(part.offset, found)
        const place = firstDifference(part, bytes, found, targets.sectorSize)
        if (place) places.set(target, [...(places.get(target) ?? []), place])
      }
    }
    // The source may have been what was misread; what it gives now is what counts.
    state.digests.set(index, joinedDigest(given, options.digest))
    await options.onStep({ phase: 'check', bytes: 0, piece })
  }
  if (places.size === 0) return
  await targets.each(async (_, target) => {
    const bad = places.get(target)
    if (bad) throw new CheckFailed(bad, targets.sectorSize)
  })
}

/** For a target on which too much differs to be written again. */
async function failure({ plan, targets }: Check, indices: readonly number[], last: number): Promise<CheckFailed> {
  const wanted = new Set(indices)
  const places: Extent[] = []
  let index = -1
  for await (const { offset, length } of plan.pieces()) {
    if (++index > last) break
    if (wanted.has(index)) places.push({ offset, length })
  }
  return new CheckFailed(places, targets.sectorSize)
}

function firstDifference(
  { offset, length }: Extent,
  wanted: Uint8Array,
  found: Uint8Array,
  sectorSize: number,
): Extent | undefined {
  const first = wanted.findIndex((byte, i) => byte !== found[i])
  if (first < 0) return undefined
  const from = offset + Math.floor(first / sectorSize) * sectorSize
  return { offset: from, length: offset + length - from }
}
