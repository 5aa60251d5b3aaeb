import { OverlayDevice } from '../block/overlay'
import type { CopyPlan, Piece } from './plan'

/**
 * The same plan with its tables among the pieces, for media that carry the mark of an unfinished copy elsewhere than in
 * the first sector: everything goes from first sector to last.
 */
export async function withTables(plan: CopyPlan): Promise<CopyPlan> {
  const expected = new OverlayDevice(plan.expected)
  for (const { offset, bytes } of plan.tables) await expected.write(offset, bytes)
  const tables = plan.tables
    .map(({ offset, bytes }): Piece => ({
      offset,
      length: bytes.length,
      sourceOffset: offset,
      partition: 0,
      zero: false,
    }))
    .sort((a, b) => a.offset - b.offset)
  return {
    ...plan,
    expected,
    tables: [],
    totalBytes: plan.totalBytes + tables.reduce((sum, table) => sum + table.length, 0),
    pieces: () => inOrder(tables, plan),
  }
}

async function* inOrder(tables: readonly Piece[], plan: CopyPlan): AsyncGenerator<Piece> {
  let next = 0
  for await (const piece of plan.pieces()) {
    while (next < tables.length && tables[next].offset < piece.offset) yield tables[next++]
    yield piece
  }
  yield* tables.slice(next)
}
