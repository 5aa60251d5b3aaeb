import * as z from 'zod'
import { type BlockDevice, type Extent, isZero, readBytes, unreadableAsNothing } from '../block/device'
import { partsOf, unionExtents } from '../block/extents'
import { fromBase64, toBase64 } from '../bytes/base64'
import { viewOf } from '../bytes/struct'
import type { Digest } from '../digest'
import { LayoutSchema } from '../fit/types'
import { TARGET_KINDS } from '../image'
import { mappedExtents } from '../image/used'
import { readJsonFile } from '../json-file'
import { DriveSurveySchema } from '../survey/types'
import { PIECE_BYTES, ZERO_PIECE_BYTES } from './division'
import { IDLE_KINDS } from './idle-kinds'
import { digestOn, KEPT_BYTES, pieceDigest } from './piece-digests'
import type { CopyPlan } from './plan'
import { LostSchema } from './progress'

const count = z.number().int().nonnegative()
const sectorSize = z.union([z.literal(512), z.literal(4096)])

/** What proves an image, and what it was made of; kept as JSON beside it. Bytes and places are those of its disk. */
export const ImageRecordSchema = z.object({
  format: z.literal('imbarco image record'),
  version: z.literal(1),
  image: z.object({
    name: z.string().max(300),
    format: z.enum(TARGET_KINDS),
    virtualBytes: count.positive(),
    sectorSize,
  }),
  /** ISO 8601. */
  madeAt: z.string().max(40),
  how: z.enum(['capture', 'copy', 'convert', 'compact']),
  source: z.object({
    name: z.string().max(300),
    model: z.string().max(120).nullable(),
    serial: z.string().max(120).nullable(),
    sizeBytes: count,
    sectorSize,
  }),
  /** What was on the source. */
  survey: DriveSurveySchema.nullable(),
  /** Where everything went, where that was laid out anew. */
  layout: LayoutSchema.nullable(),
  /** Used blocks, all that the source holds, or every sector. */
  read: z.enum(['used', 'stored', 'every']),
  /** Partitions of the source that came along; null for all. */
  volumes: z.array(z.number().int()).nullable(),
  leaveOut: z.array(z.enum(IDLE_KINDS)),
  leftOut: z.array(z.object({ path: z.string(), bytes: count })),
  /** What the source did not give; zeros stand in its place. */
  lost: z.array(LostSchema),
  /** All that was written was read back then, and was equal. */
  verified: z.boolean(),
  digest: z.object({ name: z.literal('BLAKE3'), bytes: z.literal(KEPT_BYTES) }),
  /** Stretches of the disk, in base64: offset and length of each as 64-bit numbers, little-endian. All else is zeros. */
  extents: z.string(),
  /** The beginning of the digest of each, in base64; of one that is all zeros its length, as a 64-bit number behind zeros. */
  digests: z.string(),
})
export type ImageRecord = z.infer<typeof ImageRecordSchema>

/** The name of the record beside an image. */
export const recordName = (image: string) => `${image}.record.json`
export const isRecordName = (name: string) => name.endsWith('.record.json')

/** Throws JsonFileError, naming the place, for a text that is no such record. */
export function readImageRecord(text: string): ImageRecord {
  return readJsonFile(text, ImageRecordSchema, (record) => {
    const pieces = piecesOf(record)
    if (pieces === undefined) return { path: ['extents'], what: 'stretches and digests do not belong together' }
    const strange = pieces.find(
      ({ offset, length }) =>
        length === 0 || length > ZERO_PIECE_BYTES || offset % 512 !== 0 || offset + length > record.image.virtualBytes,
    )
    return strange && { path: ['extents'], what: `a stretch lies at ${strange.offset}, which the disk does not have` }
  })
}

interface RecordedPiece extends Extent {
  readonly digest: Uint8Array
}

/** The stretches with their digests; undefined where their numbers do not agree. */
function piecesOf({ extents, digests }: Pick<ImageRecord, 'extents' | 'digests'>): RecordedPiece[] | undefined {
  const [places, kept] = [fromBase64(extents), fromBase64(digests)]
  if (places.length % 16 !== 0 || kept.length !== (places.length / 16) * KEPT_BYTES) return undefined
  const view = viewOf(places)
  return Array.from({ length: places.length / 16 }, (_, i) => ({
    offset: Number(view.getBigUint64(i * 16, true)),
    length: Number(view.getBigUint64(i * 16 + 8, true)),
    digest: kept.subarray(i * KEPT_BYTES, (i + 1) * KEPT_BYTES),
  }))
}

/**
 * What a record says of the pieces of a copy that has ended: `digests` as its outcome has them, in the order of the
 * plan, which may carry its tables apart.
 */
export async function recordedPieces(
  plan: CopyPlan,
  digests: Uint8Array,
  digest: Digest,
): Promise<Pick<ImageRecord, 'extents' | 'digests'>> {
  const pieces: RecordedPiece[] = []
  for await (const { offset, length } of plan.pieces()) {
    const at = pieces.length * KEPT_BYTES
    pieces.push({ offset, length, digest: digests.subarray(at, at + KEPT_BYTES) })
  }
  for (const { offset, bytes } of plan.tables)
    pieces.push({ offset, length: bytes.length, digest: pieceDigest(bytes, digest) })
  const places = new Uint8Array(pieces.length * 16)
  const kept = new Uint8Array(pieces.length * KEPT_BYTES)
  const view = viewOf(places)
  pieces.forEach(({ offset, length, digest: one }, i) => {
    view.setBigUint64(i * 16, BigInt(offset), true)
    view.setBigUint64(i * 16 + 8, BigInt(length), true)
    kept.set(one, i * KEPT_BYTES)
  })
  return { extents: toBase64(places), digests: toBase64(kept) }
}

/** What holding an image against its record came to. */
export interface RecordCheck {
  readonly equal: boolean
  readonly checkedBytes: number
  /** Stretches that are not what the record says, in order; those that do not read among them. */
  readonly differing: readonly Extent[]
  readonly unreadable: readonly Extent[]
  /** Stretches that hold something, and nothing by the record. */
  readonly strange: readonly Extent[]
}

/** No more places are told than anybody would look at. */
const MOST_PLACES = 1000

/** Reads the disk of an image and holds it against its record. */
export async function checkRecord(
  device: BlockDevice,
  record: ImageRecord,
  digest: Digest,
  { checkpoint, onProgress }: { checkpoint?: () => void; onProgress?: (done: number, total: number) => void } = {},
): Promise<RecordCheck> {
  const pieces = piecesOf(record)!
  const total = pieces.reduce((sum, { length }) => sum + length, 0)
  const differing: Extent[] = []
  const unreadable: Extent[] = []
  const strange: Extent[] = []
  if (device.size !== record.image.virtualBytes) {
    const whole = { offset: 0, length: device.size }
    return { equal: false, checkedBytes: 0, differing: [whole], unreadable, strange }
  }
  const tell = (list: Extent[], { offset, length }: Extent) => {
    if (list.length < MOST_PLACES) list.push({ offset, length })
  }
  const into = new Uint8Array(PIECE_BYTES)
  let done = 0
  for (const piece of pieces) {
    checkpoint?.()
    const now = await digestOn(device, piece, into, digest).catch(unreadableAsNothing)
    if (!now) tell(unreadable, piece)
    else if (now.some((byte, i) => byte !== piece.digest[i])) tell(differing, piece)
    done += piece.length
    onProgress?.(done, total)
  }
  for await (const rest of betweenPieces(device, pieces)) {
    checkpoint?.()
    for (const part of partsOf(rest, PIECE_BYTES)) {
      const bytes = await readBytes(device, part.offset, part.length).catch(unreadableAsNothing)
      if (!bytes) tell(unreadable, part)
      else if (!isZero(bytes)) tell(strange, part)
    }
  }
  const equal = differing.length + unreadable.length + strange.length === 0
  return { equal, checkedBytes: done, differing, unreadable, strange }
}

/** What the image may hold outside of the recorded stretches. */
async function* betweenPieces(device: BlockDevice, pieces: readonly Extent[]): AsyncGenerator<Extent> {
  const known = unionExtents(pieces, [])
  let i = 0
  for await (const { offset, length } of mappedExtents(device)) {
    let at = offset
    const end = offset + length
    while (i < known.length && known[i].offset + known[i].length <= at) i++
    for (let k = i; at < end; k++) {
      const next = known[k]
      const stop = next ? Math.min(end, Math.max(at, next.offset)) : end
      if (stop > at) yield { offset: at, length: stop - at }
      at = next ? Math.max(stop, Math.min(end, next.offset + next.length)) : end
    }
  }
}
