import { berthOf } from '@/core/things/bench'
import { driveName, hasBytes } from '@/core/things/drive'
import type { Move } from '../../moves'
import { spokenFor } from '../../moves/reserved-drives'
import { knownOf } from '../../world/known'

/** Drives of the bench that could be a target in place of a move's own: nobody else has them. */
export async function fitCandidates({ row, bench, brief }: Move) {
  if (brief.toVirtualMachine) return []
  const taken = await spokenFor(bench, row.benchId, row.id)
  const own = brief.pairs.flatMap((p) => [p.sourceId, p.targetId])
  const free = bench.drives.filter((d) => !own.includes(d.id) && !taken.has(d.id) && hasBytes(d))
  return Promise.all(
    free.map(async (drive) => ({
      id: drive.id,
      name: driveName(drive),
      model: drive.model,
      serial: drive.serial,
      place: berthOf(drive, bench).name,
      sizeBytes: drive.sizeBytes,
      logicalSectorSize: drive.logicalSectorSize,
      ...(await knownOf(drive)),
    })),
  )
}
