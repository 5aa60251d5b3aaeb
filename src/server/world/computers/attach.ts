import { type OpenDrive, openToLook } from '@/bench/open-drive'
import type { AttachedDrive } from '@/core/boot/start'
import { type BenchState, driveIn } from '@/core/things/bench'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveName, hasBytes } from '@/core/things/drive'
import type { StartOrder } from '../../jobs/threads/tasks/trial'
import { driveBytes } from '..'

/** What is in a computer's slots, as a trial keeps it. */
export function attachedNow(computer: Computer, bench: BenchState): string[] {
  return computer.slots.flatMap((slot) => {
    const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    return drive ? [`${slot.id}/${drive.id}`] : []
  })
}

/** The drives with bytes in a computer's slots, as a start follows them. */
export function attachedDrives(bench: BenchState, computer: Computer): StartOrder['attached'] {
  return computer.slots.flatMap((slot) => {
    const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    if (!drive || !hasBytes(drive)) return []
    const place = { driveId: drive.id, name: driveName(drive), slot: slot.id, drivers: driversAt(slot, drive) }
    return [{ ...place, drive: driveBytes(drive) }]
  })
}

/** Opens what is in a computer's slots for reading. Whoever asks closes what is in `opened`, also after an error. */
export async function attach(bench: BenchState, computer: Computer, opened: OpenDrive[]): Promise<AttachedDrive[]> {
  // What another bench lends and cannot be read now hides nothing of the computer itself.
  const readable = bench.drives.filter(({ borrowed }) => borrowed === undefined || borrowed.state === 'here')
  const attached: AttachedDrive[] = []
  for (const { drive, ...place } of attachedDrives({ ...bench, drives: readable }, computer)) {
    const bytes = await openToLook(drive)
    opened.push(bytes)
    attached.push({ ...place, device: bytes.device })
  }
  return attached
}
