import type { Brief } from '@/core/intake/brief'
import { isHost } from '@/core/things/accessory'
import { berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { moveRow } from '../../moves'
import { moveClaims } from '../../moves/claims'
import { isKept } from '../../moves/reserved-drives'
import { activeBench, benchState } from '../../world'
import { benchNow } from '../../world/clock'
import { knownSoon } from '../../world/known'

/** On a bench of more drives than this, those that are part of another move are not offered. */
const MOST_OFFERED = 200

/** What the form of a move offers: the computers and drives of the bench, with what the drives hold. */
export async function moveForm(moveId?: string) {
  const row = moveId === undefined ? undefined : await moveRow(moveId)
  const benchId = row?.benchId ?? (await activeBench()).id
  const bench = await benchState(benchId)
  const users = new Map<string | null, string>()
  for (const { id, name, pairs, handedOver } of await moveClaims(benchId)) {
    if (handedOver || id === moveId) continue
    for (const driveId of pairs.flatMap((p) => [p.sourceId, p.targetId]))
      if (!users.has(driveId)) users.set(driveId, name)
  }
  const now = await benchNow()
  const offered = bench.drives.length > MOST_OFFERED ? bench.drives.filter((d) => !users.has(d.id)) : bench.drives
  const known = await knownSoon(offered)
  const drives = offered.map((drive, i) => {
    return {
      id: drive.id,
      name: driveName(drive),
      serial: drive.serial,
      place: berthOf(drive, bench).name,
      computerId: drive.place.kind === 'slot' ? drive.place.computerId : null,
      usedBy: users.get(drive.id) ?? null,
      /** Kept as the way back of an earlier move. */
      keptUntil: isKept(drive, now) ? drive.shelf!.until : null,
      builtIn: drive.body.form === 'built-in',
      sizeBytes: drive.sizeBytes,
      ...known[i],
    }
  })
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
