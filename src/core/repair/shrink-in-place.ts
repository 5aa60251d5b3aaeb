import * as z from 'zod'
import { type BlockDevice, type Extent, isZero, readBytes } from '../block/device'
import { partsOf } from '../block/extents'
import { type Move, MovedDevice } from '../block/moved'
import { OverlayDevice } from '../block/overlay'
import { SliceDevice } from '../block/slice'
import { sameBytes } from '../bytes/same'
import { formatSize } from '../bytes/size'
import { CoreError, NotSupported } from '../errors'
import { type FileSystem, openFileSystem, recognise } from '../filesystem'
import { checkMap, mapMissesWords } from '../filesystem/map-check'
import { readScheme } from '../scheme'
import { resizeEntry } from '../scheme/entry'
import { placeOfPartition } from '../survey/open-partition'
import { ChangedSinceRepair, NotPutBack, PatchSchema, patchesStand, writePatches } from './apply'
import { expectResizable } from './places'
import type { Patch } from './port'
import { changesBetween, patchesOf } from './written'

/** So much is moved, and kept, at a time. */
const PIECE_BYTES = 1024 * 1024

/** What making a volume smaller where it lies comes to; places are bytes of the drive. */
export interface ShrinkPlan {
  readonly partition: number
  readonly beforeBytes: number
  readonly afterBytes: number
  /** Stretches that go to room which the volume does not use. */
  readonly moves: readonly Move[]
  /** What becomes other bytes when all is moved: the volume's records, and its entry in the table. */
  readonly patches: readonly Patch[]
}

/** Where a stretch that was written over is kept. */
const KeptSchema = z.object({
  at: z.number().int().nonnegative(),
  length: z.number().int().positive(),
  /** Byte of what is kept aside. */
  aside: z.number().int().nonnegative(),
})

const MoveSchema = z.object({
  from: z.number().int().nonnegative(),
  to: z.number().int().nonnegative(),
  length: z.number().int().positive(),
})

/** What is kept of a volume that is made smaller in its place. What is not kept of a place that is moved to was zeros. */
export const ShrinkRecordSchema = z.object({
  kind: z.literal('shrink'),
  partition: z.number().int().min(0),
  beforeBytes: z.number().int().positive(),
  afterBytes: z.number().int().positive(),
  state: z.enum(['writing', 'done', 'undone']),
  moves: z.array(MoveSchema),
  kept: z.array(KeptSchema),
  patches: z.array(PatchSchema),
})
export type ShrinkRecord = z.infer<typeof ShrinkRecordSchema>

/** Keeps what is needed to take it back, on another medium than the drive. */
export interface ShrinkJournal {
  /** Makes the record safe before it resolves. */
  keep(record: ShrinkRecord): Promise<void>
  /** Takes bytes after what was put aside before, and gives where they begin in it. */
  putAside(bytes: Uint8Array): Promise<number>
  /** Makes all that was put aside safe. */
  flushAside(): Promise<void>
  readAside(at: number, into: Uint8Array): Promise<void>
}

/**
 * Works out how the volume on a partition gets `size` bytes, fewer than it has, where it lies. Nothing is written. Rejects
 * with CoreError where the volume is not clean, holds a system that sleeps, or does not go into so much, with what is missing.
 */
export async function planShrink(
  drive: BlockDevice,
  partition: number,
  size: number,
  /** What else becomes other in the table when the room is there. */
  alsoInTable: (drive: BlockDevice) => Promise<void> = async () => {},
): Promise<ShrinkPlan> {
  const { start, size: beforeBytes } = await placeOfPartition(drive, partition)
  const sector = drive.logicalSectorSize
  const afterBytes = Math.floor(size / sector) * sector
  if (partition === 0)
    throw new NotSupported('A volume without a partition table has no entry that could become smaller.')
  if (afterBytes >= beforeBytes || afterBytes < sector)
    throw new CoreError(`Partition ${partition} has ${formatSize(beforeBytes)}, and is only made smaller.`)
  const slice = new SliceDevice(drive, start, beforeBytes)
  const driver = await recognise(slice)
  const volume = await driver?.open(slice)
  if (!driver?.resize || driver.resizes !== 'both' || !volume)
    throw new NotSupported(
      `Partition ${partition} holds ${volume?.name ?? 'nothing known'}, which is not made smaller here.`,
    )
  const entry = (await readScheme(drive))!.partitions.find(({ number }) => number === partition)!
  await expectResizable(drive, entry)
  const misses = await mapMisses(volume)
  if (misses !== undefined) throw new CoreError(misses)
  const smaller = await driver.resize(slice, afterBytes)
  if (!(smaller instanceof OverlayDevice)) throw new NotSupported('The volume would have to be laid out anew.')
  const inVolume: Move[] = []
  for (const { at, from, length } of smaller.origins?.(0, afterBytes) ?? [])
    if (at !== from) inVolume.push({ from, to: at, length })
  const goals = inVolume.map(({ to, length }) => ({ offset: to, length })).sort((a, b) => a.offset - b.offset)
  let next = 0
  for await (const { offset, length } of volume.usedExtents()) {
    while (next < goals.length && goals[next].offset + goals[next].length <= offset) next++
    if (next < goals.length && goals[next].offset < offset + length)
      throw new NotSupported('The volume would have to be laid out anew.')
  }
  const inPlace = await changesBetween(new MovedDevice(slice, afterBytes, inVolume), smaller)
  const lastLba = (start + afterBytes) / sector - 1
  const table = await patchesOf(drive, async (overlay) => {
    await resizeEntry(overlay, partition, { lastLba })
    await alsoInTable(overlay)
  })
  return {
    partition,
    beforeBytes,
    afterBytes,
    moves: inVolume.map(({ from, to, length }) => ({ from: from + start, to: to + start, length })),
    patches: [...inPlace.map((patch) => ({ ...patch, offset: patch.offset + start })), ...table],
  }
}

/** A drive as it will be by a plan, for reading only. */
export async function asShrunk(drive: BlockDevice, { moves, patches }: ShrinkPlan): Promise<BlockDevice> {
  const overlay = new OverlayDevice(new MovedDevice(drive, drive.size, moves))
  for (const { offset, after } of patches) await overlay.write(offset, after)
  return overlay
}

export interface ShrinkOptions {
  /** Called between pieces; throws where it is to stop, after which everything can be taken back. */
  readonly checkpoint?: () => void
  readonly onProgress?: (done: number, total: number) => void
}

/**
 * Makes a volume smaller by its plan: what stands where something moves to is put aside, then everything is moved into
 * room that nobody uses, and only then do the volume and the table say so. Cut off at any instant it is taken back by
 * `settleShrink`. Rejects with CoreError, everything put back, where the drive does not give back what was written or the
 * volume does not open as a sound one.
 */
export async function applyShrink(
  drive: BlockDevice,
  plan: ShrinkPlan,
  journal: ShrinkJournal,
  { checkpoint, onProgress }: ShrinkOptions = {},
): Promise<void> {
  const { moves, patches, partition, beforeBytes, afterBytes } = plan
  const kept: ShrinkRecord['kept'] = []
  for (const { offset, length } of piecesOf(moves.map(({ to, length }) => ({ offset: to, length })))) {
    checkpoint?.()
    const bytes = await readBytes(drive, offset, length)
    if (!isZero(bytes)) kept.push({ at: offset, length, aside: await journal.putAside(bytes) })
  }
  await journal.flushAside()
  const about = { kind: 'shrink' as const, partition, beforeBytes, afterBytes, moves: [...moves], kept }
  const record: ShrinkRecord = { ...about, patches: [...patches], state: 'writing' }
  await journal.keep(record)
  const total = moves.reduce((sum, { length }) => sum + length, 0)
  let done = 0
  for (const { from, to, length } of moves) {
    for (const { offset, length: part } of piecesOf([{ offset: 0, length }])) {
      checkpoint?.()
      await drive.write(to + offset, await readBytes(drive, from + offset, part))
      onProgress?.((done += part), total)
    }
  }
  await drive.flush()
  await drive.uncache?.()
  let isMoved = true
  for await (const { now, moved } of movedPieces(drive, record, journal)) {
    checkpoint?.()
    isMoved &&= sameBytes(now, moved)
  }
  if (isMoved) await writePatches(drive, patches, 'after')
  if (!isMoved || !(await patchesStand(drive, patches, 'after')) || !(await opensSound(drive, plan))) {
    await takeBack(drive, record, journal)
    throw new CoreError('The drive does not give back what was written to it, so everything was put back.')
  }
  await journal.keep({ ...record, state: 'done' })
}

/**
 * Takes a volume that was being made smaller back to what it was. True when there was something to take back. Rejects
 * with ChangedSinceRepair, nothing written, where something of it is neither what was nor what was to be, and with NotPutBack.
 */
export async function settleShrink(drive: BlockDevice, record: ShrinkRecord, journal: ShrinkJournal): Promise<boolean> {
  if (record.state !== 'writing') return false
  for (const { offset, before, after } of record.patches) {
    const now = await readBytes(drive, offset, before.length)
    // Where something moves to, the records in it may not be there yet.
    if (!isMovedTo(record, offset, before.length) && now.some((byte, i) => byte !== before[i] && byte !== after[i]))
      throw new ChangedSinceRepair()
  }
  for await (const { now, kept, moved, ended } of movedPieces(drive, record, journal))
    if (now.some((byte, i) => byte !== kept[i] && byte !== moved[i] && byte !== ended[i]))
      throw new ChangedSinceRepair()
  await takeBack(drive, record, journal)
  return true
}

/** Takes back what is done. Rejects with CoreError, nothing written, where the volume or its old room was used since. */
export async function undoShrink(drive: BlockDevice, record: ShrinkRecord, journal: ShrinkJournal): Promise<void> {
  const changed = () =>
    new CoreError('The drive has changed since the volume was made smaller, so that is not taken back.')
  if (record.state !== 'done' || !(await patchesStand(drive, record.patches, 'after'))) throw changed()
  // What was moved is taken back to where it came from, so it has to be there still.
  for await (const { now, ended } of movedPieces(drive, record, journal)) if (!sameBytes(now, ended)) throw changed()
  await journal.keep({ ...record, state: 'writing' })
  await takeBack(drive, record, journal)
}

/** Writes what stood there and reads it back; only then it counts as undone. Rejects with NotPutBack. */
async function takeBack(drive: BlockDevice, record: ShrinkRecord, journal: ShrinkJournal): Promise<void> {
  await writePatches(drive, record.patches, 'before')
  for await (const { offset, kept } of movedPieces(drive, record, journal)) await drive.write(offset, kept)
  await drive.flush()
  await drive.uncache?.()
  let isBack = true
  for (const { offset, before } of record.patches) {
    const now = await readBytes(drive, offset, before.length)
    isBack &&= now.every((byte, i) => byte === before[i] || isMovedTo(record, offset + i, 1))
  }
  for await (const { now, kept } of movedPieces(drive, record, journal)) isBack &&= sameBytes(now, kept)
  if (!isBack) throw new NotPutBack()
  await journal.keep({ ...record, state: 'undone' })
}

/** Something of this stretch is where a stretch moves to. */
const isMovedTo = ({ moves }: ShrinkRecord, offset: number, length: number) =>
  moves.some(({ to, length: moved }) => offset < to + moved && to < offset + length)

/**
 * Each place that was moved to: what is there now, what was there before, what lies where it was moved from, and that
 * with the volume's records as they are in the end.
 */
async function* movedPieces(drive: BlockDevice, { moves, kept: aside, patches }: ShrinkRecord, journal: ShrinkJournal) {
  const keptAt = new Map(aside.map((one) => [one.at, one]))
  for (const { from, to, length } of moves) {
    for (const { offset: at, length: part } of piecesOf([{ offset: 0, length }])) {
      const offset = to + at
      const kept = new Uint8Array(part)
      const stored = keptAt.get(offset)
      if (stored?.length === part) await journal.readAside(stored.aside, kept)
      const moved = await readBytes(drive, from + at, part)
      const ended = moved.slice()
      for (const patch of patches) {
        const [first, end] = [
          Math.max(offset, patch.offset),
          Math.min(offset + part, patch.offset + patch.after.length),
        ]
        if (first < end) ended.set(patch.after.subarray(first - patch.offset, end - patch.offset), first - offset)
      }
      yield { offset, now: await readBytes(drive, offset, part), kept, moved, ended }
    }
  }
}

/** The volume in its new length opens, is clean, and its map holds all that its files use. */
async function opensSound(drive: BlockDevice, { partition, afterBytes }: ShrinkPlan): Promise<boolean> {
  const { start, size } = await placeOfPartition(drive, partition)
  if (size !== afterBytes) return false
  const volume = await openFileSystem(new SliceDevice(drive, start, size)).catch(() => undefined)
  return volume?.state === 'clean' && volume.totalBytes <= size && (await mapMisses(volume)) === undefined
}

/** What a volume's map has not of what its files use, as a sentence. */
async function mapMisses(volume: FileSystem): Promise<string | undefined> {
  const check = await checkMap(volume)
  return check && mapMissesWords(check)
}

/** Stretches in pieces that begin at their own start, each time the same. */
function piecesOf(extents: readonly Extent[]): Extent[] {
  return extents.flatMap((extent) => [...partsOf(extent, PIECE_BYTES)])
}
