import { type BlockDevice, unreadableAsNothing } from '../block/device'
import { partsOf } from '../block/extents'
import { fromBase64, toBase64 } from '../bytes/base64'
import type { Digest } from '../digest'
import { CoreError } from '../errors'
import type { CopyState } from './journal'
import { PIECE_BYTES } from './division'
import { digestOn, KEPT_BYTES } from './piece-digests'
import type { CopyPlan, Piece } from './plan'

/** What a resume compares of the pieces that were copied before: a sample of them, or every one. */
export type Recheck = 'sample' | 'every'

/** What a copy was made of is not what it was when the copy was cut off. */
export class SourceChanged extends CoreError {
  override readonly name = 'SourceChanged'
  constructor(
    readonly what: 'source' | 'target',
    readonly offset: number,
    sectorSize: number,
  ) {
    const sector = offset / sectorSize
    super(
      what === 'source'
        ? `The source has changed since this copy was cut off (near sector ${sector} of it), so going on would mix two states of it. The target stays marked as unfinished; start the copy over.`
        : `The target does not hold any more what this copy wrote to it (near sector ${sector} of it). It stays marked as unfinished; start the copy over.`,
    )
  }
}

/** So many pieces are compared when a sample is. */
const SAMPLE_PIECES = 48
/** A digest that says nothing, for what did not read. */
const UNKNOWN = new Uint8Array(KEPT_BYTES)

/**
 * Digests of all that the volumes of the source keep about their files, as text for the journal: with it a resume can
 * tell that the source is the one on which the copy began, also where nothing was copied yet.
 */
export async function metadataDigests(plan: CopyPlan, digest: Digest): Promise<string> {
  const kept: Uint8Array[] = []
  for await (const { found } of eachChunk(plan, digest)) kept.push(found)
  const bytes = new Uint8Array(kept.length * KEPT_BYTES)
  kept.forEach((one, i) => bytes.set(one, i * KEPT_BYTES))
  return toBase64(bytes)
}

/** Throws SourceChanged when the volumes of the source do not keep what they kept when the copy began. */
export async function expectSameMetadata(plan: CopyPlan, digest: Digest, before: string): Promise<void> {
  const kept = fromBase64(before)
  let at = 0
  for await (const { offset, found } of eachChunk(plan, digest)) {
    const was = kept.subarray(at, at + KEPT_BYTES)
    at += KEPT_BYTES
    if (was.length === KEPT_BYTES && (isUnknown(was) || isUnknown(found))) continue
    if (was.length < KEPT_BYTES || was.some((byte, i) => byte !== found[i])) {
      throw new SourceChanged('source', offset, plan.sourceSectorSize)
    }
  }
  if (at !== kept.length) throw new SourceChanged('source', 0, plan.sourceSectorSize)
}

/**
 * Compares pieces that were copied before with what the source gives now, and with what the targets hold. What does
 * not read is passed over: a drive that fails may give less each time. Throws SourceChanged.
 */
export async function expectSamePieces(
  plan: CopyPlan,
  targets: readonly BlockDevice[],
  state: CopyState,
  digest: Digest,
  recheck: Recheck,
): Promise<void> {
  if (state.pieces === 0) return
  const step = recheck === 'every' ? 1 : Math.ceil(state.pieces / SAMPLE_PIECES)
  const lost = (piece: Piece) =>
    state.lost.some((l) => l.offset < piece.offset + piece.length && piece.offset < l.offset + l.length)
  const into = new Uint8Array(PIECE_BYTES)
  let index = -1
  for await (const piece of plan.pieces()) {
    if (++index >= state.pieces) return
    // The last ones too: what was in hand when it was cut off is likeliest to differ.
    if (index % step !== 0 && index < state.pieces - 8) continue
    if (state.later.has(index) || lost(piece)) continue
    const differs = async (device: BlockDevice) => {
      const found = await digestOn(device, piece, into, digest).catch(unreadableAsNothing)
      return found !== undefined && !state.digests.is(index, found)
    }
    if (await differs(plan.expected)) throw new SourceChanged('source', piece.sourceOffset, plan.sourceSectorSize)
    for (const target of targets) {
      if (await differs(target)) throw new SourceChanged('target', piece.offset, target.logicalSectorSize)
    }
  }
}

async function* eachChunk(plan: CopyPlan, digest: Digest): AsyncGenerator<{ offset: number; found: Uint8Array }> {
  const into = new Uint8Array(PIECE_BYTES)
  for await (const extent of plan.metadata()) {
    for (const { offset, length } of partsOf(extent, PIECE_BYTES)) {
      const bytes = into.subarray(0, length)
      const found = (await reads(plan.source, offset, bytes)) ? digest(bytes).slice(0, KEPT_BYTES) : UNKNOWN
      yield { offset, found }
    }
  }
}

async function reads(device: BlockDevice, offset: number, into: Uint8Array): Promise<boolean> {
  const given = device.read(offset, into).then(() => true)
  return (await given.catch(unreadableAsNothing)) ?? false
}

function isUnknown(digest: Uint8Array): boolean {
  return digest.every((byte) => byte === 0)
}
