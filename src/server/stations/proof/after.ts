import { roomBehind } from '@/core/repair/kinds/take-up-room'
import { readScheme } from '@/core/scheme'
import { type Drive, driveName } from '@/core/things/drive'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import { saveStationResults, loadMove } from '../../moves'
import { note } from '../../moves/logbook'
import { stillOff } from '../../moves/turned-off'
import { changeComputer, computerById, openIfHere } from '../../world'

/** Turns one of them, or all, on again, in the computer where it runs now. */
export async function turnOn(moveId: string, id: string | undefined): Promise<void> {
  await inTransaction(() => turnOnAll(moveId, id))
}

async function turnOnAll(moveId: string, id: string | undefined): Promise<void> {
  const move = await loadMove(moveId)
  const off = stillOff(move).filter((o) => id === undefined || o.id === id)
  if (off.length === 0) throw new Refusal('nothing-turned-off')
  for (const { id: which, title } of off) {
    const entry = move.row.ready!.turnedOff.find((t) => `${t.computerId}/${t.what}/${t.of}` === which)!
    const computer = await computerById(entry.computerId)
    if (computer.running !== 'system') throw new Refusal('computer-not-running', { computer: computer.name })
    if (entry.what === 'program') {
      const programs = computer.programs.map((p) => (p.id === entry.of ? { ...p, running: true } : p))
      await changeComputer(computer.id, { programs })
    } else if (entry.what === 'network') await changeComputer(computer.id, { online: true })
    else await changeComputer(computer.id, { sleepMinutes: entry.minutes })
    await note(moveId, `on again: ${title.toLowerCase()}`, 'good')
  }
  await saveStationResults(moveId, {})
}

/** Room of the new drive that no partition has; with the one in front of it where that could take it. Never written. */
export async function freeRoom(drive: Drive): Promise<{ bytes: number; partition: number } | undefined> {
  const opened = await openIfHere(drive)
  if (!opened) return undefined
  try {
    const device = opened.device
    const reading = await readScheme(device)
    if (!reading || reading.scheme === 'damaged') return undefined
    const room = roomBehind({ drive: { driveId: drive.id, name: driveName(drive), slot: '', device }, reading })
    return room && { bytes: room.bytes, partition: room.partition.number }
  } finally {
    await opened.close()
  }
}
