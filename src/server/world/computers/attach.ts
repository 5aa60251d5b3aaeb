import type { OpenDrive } from '@/outside/open-drive'
import type { AttachedDrive } from '@/core/boot/start'
import { type BenchState, driveIn } from '@/core/things/bench'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveName, hasBytes, isWithinReach } from '@/core/things/drive'
import type { StartOrder } from '../../jobs/threads/tasks/trial'
import { driveBytes, openIfHere } from '..'

/** What is in a computer's slots, as a trial keeps it. */
export function attachedNow(computer: Computer, bench: BenchState): string[] {
  return computer.slots.flatMap((slot) => {
    const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    return drive ? [`${slot.id}/${drive.id}`] : []
  })
}

/** The drives with bytes in a computer's slots, as a start follows them. */
export function attachedDrives(bench: BenchState, computer: Computer): StartOrder['attached'] {
  return seatedIn(bench, computer).flatMap(({ inside, ...place }) => {
    // What hands put elsewhere can no longer be read here.
    return inside.kernel && !isWithinReach(inside) ? [] : [{ ...place, drive: driveBytes(inside) }]
  })
}

/** Opens what is in a computer's slots for reading. Whoever asks closes what is in `opened`, also after an error. */
export async function attach(bench: BenchState, computer: Computer, opened: OpenDrive[]): Promise<AttachedDrive[]> {
  const attached: AttachedDrive[] = []
  for (const seat of seatedIn(bench, computer)) {
    // What cannot be read now hides nothing of the computer itself.
    const bytes = isWithinReach(seat.inside) ? await openIfHere(seat.inside) : undefined
    if (!bytes) continue
    opened.push(bytes)
    const { driveId, name, slot, drivers } = seat
    attached.push({ driveId, name, slot, drivers, device: bytes.device })
  }
  return attached
}

/** The drives with bytes in a computer's slots. */
function seatedIn(bench: BenchState, computer: Computer) {
  return computer.slots.flatMap((slot) => {
    const inside = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    if (!inside || !hasBytes(inside)) return []
    return [{ inside, driveId: inside.id, name: driveName(inside), slot: slot.id, drivers: driversAt(slot, inside) }]
  })
}
