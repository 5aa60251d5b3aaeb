import type { BlockDevice, Extent } from '../block/device'
import { OverlayDevice } from '../block/overlay'
import type { CopyPlan } from './plan'

/** The target of a plan as it will be, tables included, with what of it has to be written, in order. */
export interface WholeTarget {
  readonly device: BlockDevice
  extents(): AsyncIterable<Extent>
}

/** For writing a copy in one pass from first sector to last, as images are. */
export async function wholeTarget(plan: CopyPlan): Promise<WholeTarget> {
  const device = new OverlayDevice(plan.expected)
  for (const { offset, bytes } of plan.tables) await device.write(offset, bytes)
  const tables = plan.tables
    .map(({ offset, bytes }): Extent => ({ offset, length: bytes.length }))
    .sort((a, b) => a.offset - b.offset)
  return { device, extents: () => inOrder(tables, plan) }
}

async function* inOrder(tables: readonly Extent[], plan: CopyPlan): AsyncGenerator<Extent> {
  let next = 0
  for await (const piece of plan.pieces()) {
    while (next < tables.length && tables[next].offset < piece.offset) yield tables[next++]
    if (!piece.zero) yield { offset: piece.offset, length: piece.length }
  }
  yield* tables.slice(next)
}
