import { AssembledDevice, type Part } from '../block/assembled'
import type { BlockDevice, Extent } from '../block/device'
import { mergeExtents } from '../block/extents'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { CoreError, NotSupported } from '../errors'
import { type FileSystem, openFileSystem, recognise } from '../filesystem'
import type { FitPartition, Layout } from '../fit/types'
import { gptWrites, type TableWrite } from '../scheme/gpt'

/** Runs closer together than this are copied as one: reading on costs less than a new request. */
const MERGE_GAP = 64 * 1024
/** The largest piece that is read at once. */
export const PIECE_BYTES = 4 * 1024 * 1024

/** One step of the work list: bytes of the target, whose content the expected target gives. */
export interface Piece extends Extent {
  /** Number of the partition it belongs to. */
  readonly partition: number
  /** Where the same bytes lie on the source drive. */
  readonly sourceOffset: number
  /** Known to hold only zeros, so that nothing has to be read. */
  readonly zero: boolean
}

/** Everything a copy needs, computed before the first byte is written. */
export interface CopyPlan {
  /** What the target will hold between its tables: the source's content in its new places, volumes grown. */
  readonly expected: BlockDevice
  /** The work list, in order of the target's sectors. Each call gives it anew, and the same. */
  pieces(): AsyncIterable<Piece>
  /** Bytes of all pieces. */
  readonly totalBytes: number
  readonly partitions: readonly { number: number; title: string; bytes: number; mode: 'used' | 'every' }[]
  /** The partition tables, written when all else is in place. */
  readonly tables: readonly TableWrite[]
}

interface PreparedPart {
  readonly partition: FitPartition
  readonly device: BlockDevice
  readonly targetOffset: number
  readonly sourceOffset: number
  readonly fileSystem?: FileSystem
}

/**
 * Plans a copy of `source` onto a drive laid out as `layout`. The source is only read; changes that growing
 * and moving make to a volume's records are held in memory. Throws CoreError when source and layout do not
 * belong together.
 */
export async function planCopy(source: BlockDevice, layout: Layout): Promise<CopyPlan> {
  if (source.size !== layout.sourceSizeBytes || source.logicalSectorSize !== layout.sectorSize) {
    throw new CoreError('The source is not the drive this fit was made for.')
  }
  const parts: PreparedPart[] = []
  for (const partition of [...layout.partitions].sort((a, b) => a.firstLba - b.firstLba)) {
    parts.push(await preparePart(readOnly(source), partition, layout.sectorSize))
  }
  const assembled: Part[] = parts.map(({ targetOffset, device }) => ({ at: targetOffset, device }))
  const expected = new AssembledDevice(layout.targetSizeBytes, layout.sectorSize, assembled)
  const partitions = []
  for (const part of parts) {
    let bytes = 0
    for await (const { length } of partExtents(part)) bytes += length
    const { number, title } = part.partition
    partitions.push({ number, title, bytes, mode: part.fileSystem ? ('used' as const) : ('every' as const) })
  }
  const table = { diskGuid: layout.diskGuid, entryCount: 128, entrySize: 128, partitions: layout.partitions }
  return {
    expected,
    pieces: () => pieces(parts, expected),
    totalBytes: partitions.reduce((sum, p) => sum + p.bytes, 0),
    partitions,
    tables: gptWrites(layout.targetSizeBytes, layout.sectorSize, table),
  }
}

async function preparePart(source: BlockDevice, partition: FitPartition, sectorSize: number): Promise<PreparedPart> {
  const sourceOffset = partition.sourceFirstLba * sectorSize
  const before = (partition.sourceLastLba - partition.sourceFirstLba + 1) * sectorSize
  const after = (partition.lastLba - partition.firstLba + 1) * sectorSize
  const slice = new SliceDevice(source, sourceOffset, before)
  const common = { partition, sourceOffset, targetOffset: partition.firstLba * sectorSize }
  const driver = await recognise(slice)
  if (!driver) {
    if (after < before) throw new NotSupported(`${partition.title} cannot be made smaller: its content is not known.`)
    return { ...common, device: after > before ? new OverlayDevice(slice, after) : slice }
  }
  if (after < before) throw new NotSupported(`${partition.title} cannot be made smaller yet.`)
  const moved = partition.firstLba !== partition.sourceFirstLba
  if (after === before && !moved) return { ...common, device: slice, fileSystem: await openFileSystem(slice) }
  const overlay = new OverlayDevice(slice, after)
  if (after > before) {
    if (!driver.grow) throw new NotSupported(`${partition.title} cannot grow: its file system stays as it is.`)
    await driver.grow(overlay)
  }
  if (moved) await driver.relocate?.(overlay, partition.firstLba)
  return { ...common, device: overlay, fileSystem: await openFileSystem(overlay) }
}

/** Used runs of a part, or all of it where no file system tells. Bytes from the part's start. */
async function* partExtents({ fileSystem, device }: PreparedPart): AsyncGenerator<Extent> {
  if (fileSystem) yield* mergeExtents(fileSystem.usedExtents(), MERGE_GAP)
  else yield { offset: 0, length: device.size }
}

async function* pieces(parts: readonly PreparedPart[], expected: BlockDevice): AsyncGenerator<Piece> {
  for (const part of parts) {
    for await (const { offset, length } of partExtents(part)) {
      for (let at = offset; at < offset + length;) {
        // Pieces end on multiples of their size, so that requests fall into step with the drive.
        const stop = Math.min(offset + length, (Math.floor(at / PIECE_BYTES) + 1) * PIECE_BYTES)
        yield* byMapping(part, expected, at, stop - at)
        at = stop
      }
    }
  }
}

/** Splits a stretch into what may hold data and what is known to be zeros. */
async function* byMapping(
  part: PreparedPart,
  expected: BlockDevice,
  at: number,
  length: number,
): AsyncGenerator<Piece> {
  const { targetOffset, sourceOffset, partition } = part
  const piece = (from: number, to: number, zero: boolean): Piece => ({
    offset: targetOffset + from,
    sourceOffset: sourceOffset + from,
    length: to - from,
    partition: partition.number,
    zero,
  })
  const mapped = expected.mapped
    ? await expected.mapped(targetOffset + at, length)
    : [{ offset: targetOffset + at, length }]
  let next = at
  for (const extent of mapped) {
    const from = extent.offset - targetOffset
    if (from > next) yield piece(next, from, true)
    yield piece(from, from + extent.length, false)
    next = from + extent.length
  }
  if (next < at + length) yield piece(next, at + length, true)
}
