import { berthOf } from '@/core/things/bench'
import { driveName, hasBytes } from '@/core/things/drive'
import { knownOf } from '../bench/known'
import { benchNow } from '../clock'
import { MoveRow } from '../database/models'
import { isKept } from '../intake'
import type { Move } from '../move'

/** Drives of the bench that could be a target in place of a move's own: no other move has them, none is a way back. */
export async function fitCandidates({ row, bench, brief }: Move) {
  if (brief.toVirtualMachine) return []
  const others = (await MoveRow.findAll({ where: { benchId: row.benchId } })).filter((r) => !r.handover)
  const used = new Set(others.flatMap((r) => r.brief.pairs.flatMap((p) => [p.sourceId, p.targetId])))
  const now = await benchNow()
  const free = bench.drives.filter((d) => !used.has(d.id) && hasBytes(d) && !isKept(d, now))
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
