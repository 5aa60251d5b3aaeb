import type { Brief } from '@/core/intake/brief'
import { isHost } from '@/core/things/accessory'
import { berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { MoveRow } from '../../database/models'
import { moveRow } from '../../moves'
import { isKept } from '../../moves/reserved-drives'
import { activeBench, benchState } from '../../world'
import { benchNow } from '../../world/clock'
import { knownOf } from '../../world/known'

/** What the form of a move offers: the computers and drives of the bench, with what the drives hold. */
export async function moveForm(moveId?: string) {
  const row = moveId === undefined ? undefined : await moveRow(moveId)
  const benchId = row?.benchId ?? (await activeBench()).id
  const bench = await benchState(benchId)
  const rows = (await MoveRow.findAll({ where: { benchId } })).filter((r) => !r.handover && r.id !== moveId)
  const now = await benchNow()
  const drives = await Promise.all(
    bench.drives.map(async (drive) => {
      const user = rows.find((r) => r.brief.pairs.some((p) => p.sourceId === drive.id || p.targetId === drive.id))
      return {
        id: drive.id,
        name: driveName(drive),
        serial: drive.serial,
        place: berthOf(drive, bench).name,
        computerId: drive.place.kind === 'slot' ? drive.place.computerId : null,
        usedBy: user?.brief.name ?? null,
        /** Kept as the way back of an earlier move. */
        keptUntil: drive.place.kind === 'shelf' && isKept(drive, now) ? drive.shelf!.until : null,
        sizeBytes: drive.sizeBytes,
        ...(await knownOf(drive)),
      }
    }),
  )
  return {
    computers: bench.computers.map(({ id, name, model }) => ({ id, name, model })),
    drives,
    hasHost: bench.accessories.some(isHost),
    moveId,
    brief: row?.brief ?? emptyBrief(),
  }
}

function emptyBrief(): Brief {
  return {
    name: '',
    customer: '',
    reason: 'more room',
    computerId: '',
    pairs: [{ sourceId: '', targetId: '' }],
    toVirtualMachine: false,
    targetComputerId: null,
    images: [],
    backup: null,
    promised: '',
  }
}
