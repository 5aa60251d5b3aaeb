import { driversAt, type Slot } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName, isWithinReach } from '@/core/things/drive'
import type { Move } from '../../moves'
import { driveBytes } from '../../world'
import { attachedDrives, attachedNow } from '../../world/computers/attach'

/**
 * The slot of a computer that a drive sits in. A drive of this computer is read while it is still plugged in here, as one
 * that sits where the plan puts it.
 */
export function slotOf({ row }: Move, computer: Computer, drive: Drive): Slot | undefined {
  const { id, place } = drive
  if (place.kind === 'slot' && place.computerId === computer.id) return computer.slots.find((s) => s.id === place.slot)
  if (!drive.kernel || !isWithinReach(drive)) return undefined
  const put = row.route?.plan.actions.findLast((a) => a.do === 'put' && a.driveId === id)
  const into = put?.do === 'put' && put.into.kind === 'slot' ? put.into : undefined
  return computer.slots.find((s) => into?.computerId === computer.id && s.id === into.slot)
}

/** What is in the slots of the computer that is started. */
export function seatsOf(move: Move, computer: Computer) {
  const { bench, pairs } = move
  const attached = [...attachedDrives(bench, computer)]
  const named = attachedNow(computer, bench)
  for (const { target } of pairs) {
    if (!target?.kernel || attached.some((a) => a.driveId === target.id)) continue
    const slot = slotOf(move, computer, target)
    if (!slot) continue
    const seat = { driveId: target.id, name: driveName(target), slot: slot.id, drivers: driversAt(slot, target) }
    attached.push({ ...seat, drive: driveBytes(target) })
    named.push(`${slot.id}/${target.id}`)
  }
  return { attached, named }
}
