import { type BlockDevice, readBytes } from '../block/device'
import { readOnly } from '../block/readonly'
import { mappedExtents } from '../image/convert'
import { metadataExtents } from './metadata'
import { type CopyPlan, type Piece, PIECE_BYTES } from './plan'

/**
 * Plans a copy of a whole device as it is, onto one of the same size. Its first sector goes last, as a table does,
 * since until then the target carries the mark of an unfinished copy there.
 */
export async function planWhole(source: BlockDevice): Promise<CopyPlan> {
  const expected = readOnly(source)
  const sector = source.logicalSectorSize
  return {
    expected,
    pieces: () => pieces(source),
    source: expected,
    metadata: () => metadataExtents(source),
    totalBytes: source.size - sector,
    partitions: [{ number: 0, title: 'Every sector', bytes: source.size, mode: 'every', skippedBytes: 0, leftOut: [] }],
    origins: ({ offset, length }) => [{ at: offset, from: offset, length }],
    sourceSectorSize: sector,
    tables: [{ offset: 0, bytes: await readBytes(source, 0, sector) }],
  }
}

async function* pieces(source: BlockDevice): AsyncGenerator<Piece> {
  let at: number = source.logicalSectorSize
  const upTo = function* (end: number, zero: boolean): Generator<Piece> {
    while (at < end) {
      const stop = Math.min(end, (Math.floor(at / PIECE_BYTES) + 1) * PIECE_BYTES)
      yield { offset: at, sourceOffset: at, length: stop - at, partition: 0, zero }
      at = stop
    }
  }
  for await (const { offset, length } of mappedExtents(source)) {
    yield* upTo(offset, true)
    yield* upTo(offset + length, false)
  }
  yield* upTo(source.size, true)
}
