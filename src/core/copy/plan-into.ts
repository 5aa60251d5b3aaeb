import type { BlockDevice } from '../block/device'
import { readAround } from '../block/read-around'
import { SliceDevice } from '../block/slice'
import { CoreError } from '../errors'
import type { Layout } from '../fit/types'
import { type CopyPlan, type CopyScope, type Piece, planPartitions } from './plan'

/**
 * Plans a copy of the one volume of a layout into its partition, for a target that is that partition and nothing else:
 * places count from its start. Its first sector goes last, since until then it carries the mark of an unfinished copy.
 * Throws CoreError as planCopy does.
 */
export async function planInto(source: BlockDevice, layout: Layout, scope: CopyScope = {}): Promise<CopyPlan> {
  const [partition, ...others] = layout.partitions
  if (!partition || others.length > 0) throw new CoreError('One volume at a time goes into a partition.')
  const whole = await planPartitions(source, layout, scope)
  const sector = layout.sectorSize
  const start = partition.firstLba * sector
  const expected = new SliceDevice(whole.expected, start, (partition.lastLba - partition.firstLba + 1) * sector)
  const first = new Uint8Array(sector)
  const lostOfTables = await readAround(expected, 0, first)
  const pieces = () => behindFirst(whole.pieces(), start, sector)
  let totalBytes = 0
  for await (const { length } of pieces()) totalBytes += length
  return {
    ...whole,
    expected,
    pieces,
    totalBytes,
    origins: ({ offset, length }) =>
      whole.origins({ offset: offset + start, length }).map((origin) => ({ ...origin, at: origin.at - start })),
    tables: [{ offset: 0, bytes: first }],
    lostOfTables,
  }
}

/** The same pieces with places in the partition, without its first sector. */
async function* behindFirst(pieces: AsyncIterable<Piece>, start: number, sector: number): AsyncGenerator<Piece> {
  for await (const piece of pieces) {
    const offset = piece.offset - start
    const cut = Math.min(piece.length, Math.max(0, sector - offset))
    if (cut === piece.length) continue
    yield { ...piece, offset: offset + cut, sourceOffset: piece.sourceOffset + cut, length: piece.length - cut }
  }
}
