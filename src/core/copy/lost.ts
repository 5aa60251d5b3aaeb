import type { LostInImage } from '../image/lost'
import { touchedByEach } from '../image/touched'
import type { CopyPlan } from './plan'
import type { Lost } from './progress'
import type { LostExtent } from '../block/read-around'
import { withTables } from './whole'

/** Names what bytes of the target are lost: by sector of both drives, by partition and by file. */
export async function nameLost(plan: CopyPlan, lost: readonly LostExtent[]): Promise<Lost[]> {
  if (lost.length === 0) return []
  const { expected: device } = await withTables(plan)
  const touched = await touchedByEach(device, lost)
  return lost
    .flatMap((run, i) =>
      plan.origins(run).map((piece) => ({
        partition: touched[i].partition ?? 0,
        sourceLba: piece.from / plan.sourceSectorSize,
        targetLba: piece.at / device.logicalSectorSize,
        sectors: piece.length / plan.sourceSectorSize,
        files: [...touched[i].files],
        tried: run.tried,
      })),
    )
    .sort((a, b) => a.sourceLba - b.sourceLba)
}

/** What a copy has lost, each file once. */
export function lostInImage(lost: readonly Lost[]): LostInImage {
  const files = new Map<string, LostInImage['files'][number]>()
  for (const { partition, files: paths } of lost)
    for (const path of paths) files.set(`${partition} ${path}`, { partition, path })
  return { sectors: lost.reduce((sum, run) => sum + run.sectors, 0), files: [...files.values()] }
}
