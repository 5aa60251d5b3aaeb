import { touchedByEach } from '../image/touched'
import type { CopyPlan } from './plan'
import type { Lost } from './progress'
import type { LostExtent } from '../block/read-around'
import { wholeTarget } from './whole'

/** Names what bytes of the target are lost: by sector of both drives, by partition and by file. */
export async function nameLost(plan: CopyPlan, lost: readonly LostExtent[]): Promise<Lost[]> {
  if (lost.length === 0) return []
  const { device } = await wholeTarget(plan)
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
