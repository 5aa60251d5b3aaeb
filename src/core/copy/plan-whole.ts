import type { BlockDevice, Extent } from '../block/device'
import { unionExtents } from '../block/extents'
import { readAround } from '../block/read-around'
import { readOnly } from '../block/readonly'
import { ZeroMaskedDevice } from '../block/zero-masked'
import { ExtentList } from '../block/extent-list'
import { type MapTaken, mappedExtents, storedExtents, usedExtentsOf } from '../image/used'
import { idleOnDrive } from './idle'
import type { IdleKind } from './idle-kinds'
import { metadataExtents } from './metadata'
import { inStep, PIECE_BYTES, ZERO_PIECE_BYTES } from './division'
import type { CopyPlan, Piece } from './plan'

/**
 * Plans a copy of a whole device as it is, onto one of the same size. Its first sector goes last, as a table does,
 * since until then the target carries the mark of an unfinished copy there.
 */
export async function planWhole(source: BlockDevice): Promise<CopyPlan> {
  const { size } = source
  return {
    ...(await planOf(readOnly(source), () => wholePieces(source))),
    totalBytes: size - source.logicalSectorSize,
    partitions: [{ number: 0, title: 'Every sector', bytes: size, mode: 'every', skippedBytes: 0, leftOut: [] }],
  }
}

/** What an image takes of a drive. */
export interface ImageScope {
  /** All that may hold anything but zeros, in place of what is in use. */
  readonly stored?: boolean
  /** Files of these kinds keep their length and read as zeros. */
  readonly leaveOut?: readonly IdleKind[]
}

/**
 * Plans an image of a device, of its size: what lies outside of the partitions, the used blocks of every volume that
 * tells them, and all of the others. `onMap` is told of each volume that is taken by its map what that came to.
 */
export async function planImage(
  source: BlockDevice,
  { stored = false, leaveOut = [] }: ImageScope = {},
  onMap?: (map: MapTaken) => void,
): Promise<CopyPlan> {
  const { files, extents: blank } =
    leaveOut.length > 0 ? await idleOnDrive(source, leaveOut) : { files: [], extents: [] }
  const expected = blank.length > 0 ? new ZeroMaskedDevice(source, unionExtents(blank, [])) : readOnly(source)
  // What is in use is asked once: it is the same each time, and holding maps against files takes long.
  const used = new ExtentList()
  if (!stored) for await (const extent of usedExtentsOf(source, onMap)) used.add(extent)
  const extents = () => (stored ? mappedExtents(expected) : storedExtents(expected, used))
  let bytes = 0
  for await (const { length } of pieces(expected, extents())) bytes += length
  const left = files.reduce((sum, file) => sum + file.bytes, 0)
  return {
    ...(await planOf(expected, () => pieces(expected, extents()))),
    totalBytes: bytes,
    partitions: [
      {
        number: 0,
        title: stored ? 'All that it holds' : 'Used blocks',
        bytes,
        mode: stored ? 'every' : 'used',
        skippedBytes: Math.max(0, source.size - bytes - left),
        leftOut: files,
      },
    ],
  }
}

async function planOf(
  expected: BlockDevice,
  pieces: () => AsyncIterable<Piece>,
): Promise<Omit<CopyPlan, 'totalBytes' | 'partitions'>> {
  const sector = expected.logicalSectorSize
  const first = new Uint8Array(sector)
  const lostOfTables = await readAround(expected, 0, first)
  return {
    expected,
    pieces,
    source: expected,
    metadata: () => metadataExtents(expected),
    origins: ({ offset, length }) => [{ at: offset, from: offset, length }],
    sourceSectorSize: sector,
    tables: [{ offset: 0, bytes: first }],
    lostOfTables,
  }
}

async function* wholePieces(source: BlockDevice): AsyncGenerator<Piece> {
  let at: number = source.logicalSectorSize
  for await (const { offset, length } of mappedExtents(source)) {
    yield* upTo(at, offset, true)
    at = Math.max(at, offset)
    yield* upTo(at, offset + length, false)
    at = Math.max(at, offset + length)
  }
  yield* upTo(at, source.size, true)
}

/** The first sector is not among them. */
async function* pieces(source: BlockDevice, extents: AsyncIterable<Extent>): AsyncGenerator<Piece> {
  for await (const { offset, length } of extents)
    yield* upTo(Math.max(offset, source.logicalSectorSize), offset + length, false)
}

function* upTo(from: number, end: number, zero: boolean): Generator<Piece> {
  for (const { offset, length } of inStep(from, end, zero ? ZERO_PIECE_BYTES : PIECE_BYTES)) {
    yield { offset, sourceOffset: offset, length, partition: 0, zero }
  }
}
