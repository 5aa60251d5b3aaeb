import { type OpenDrive, openDrive } from '@/bench/open-drive'
import { readOnly } from '@/core/block/readonly'
import type { AttachedDrive } from '@/core/boot/start'
import { type BenchState, driveIn } from '@/core/things/bench'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveName, hasBytes } from '@/core/things/drive'
import { driveBytes } from '..'

/** What is in a computer's slots, as a trial keeps it. */
export function attachedNow(computer: Computer, bench: BenchState): string[] {
  return computer.slots.flatMap((slot) => {
    const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    return drive ? [`${slot.id}/${drive.id}`] : []
  })
}

/** Opens what is in a computer's slots for reading. Whoever asks closes what is in `opened`, also after an error. */
export async function attach(bench: BenchState, computer: Computer, opened: OpenDrive[]): Promise<AttachedDrive[]> {
  const attached: AttachedDrive[] = []
  for (const slot of computer.slots) {
    const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    if (!drive || !hasBytes(drive)) continue
    const drivesBytes = await openDrive(driveBytes(drive), { writable: false })
    opened.push(drivesBytes)
    attached.push({
      driveId: drive.id,
      name: driveName(drive),
      slot: slot.id,
      device: readOnly(drivesBytes.device),
      drivers: driversAt(slot, drive),
    })
  }
  return attached
}
