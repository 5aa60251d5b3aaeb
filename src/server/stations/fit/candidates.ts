import { berthOf } from '@/core/things/bench'
import { type Drive, driveName, hasBytes } from '@/core/things/drive'
import type { Move } from '../../moves'
import { reservedDrives } from '../../moves/reserved-drives'
import { knownSoon } from '../../world/known'

/** Drives of the bench that could be a target in place of a move's own: nobody else has them. */
export async function fitCandidates({ row, bench, brief }: Move) {
  if (brief.toVirtualMachine) return []
  const taken = await reservedDrives(bench, row.benchId, row.id)
  const own = brief.pairs.flatMap((p) => [p.sourceId, p.targetId])
  const free = bench.drives.filter((d) => !own.includes(d.id) && !taken.has(d.id) && hasBytes(d))
  const offered = nearest(free, bench.drives.find((d) => d.id === brief.pairs[0].sourceId)?.sizeBytes ?? 0)
  const known = await knownSoon(offered)
  return offered.map((drive, i) => ({
    id: drive.id,
    name: driveName(drive),
    model: drive.model,
    serial: drive.serial,
    place: berthOf(drive, bench).name,
    sizeBytes: drive.sizeBytes,
    logicalSectorSize: drive.logicalSectorSize,
    ...known[i],
  }))
}

/** So many are offered; of more those that are as large as the old drive or larger, the smallest first. */
const MOST_OFFERED = 40

function nearest(drives: readonly Drive[], sizeBytes: number): readonly Drive[] {
  if (drives.length <= MOST_OFFERED) return drives
  const rank = (d: Drive) => (d.sizeBytes >= sizeBytes ? d.sizeBytes : Number.MAX_SAFE_INTEGER - d.sizeBytes)
  return [...drives].sort((a, b) => rank(a) - rank(b)).slice(0, MOST_OFFERED)
}
