import { openDrive } from '@/bench/open-drive'
import { readOnly } from '@/core/block/readonly'
import { roomBehind } from '@/core/repair/kinds/take-up-room'
import { readScheme } from '@/core/scheme'
import { type Drive, driveName } from '@/core/things/drive'
import { changeComputer, computerById, driveBytes } from '../bench'
import { note } from '../logbook'
import { keep, loadMove, type Move } from '../move'
import { Refusal } from '../refusal'

/** Something that Ready turned off and that is still off. */
export interface StillOff {
  readonly id: string
  readonly title: string
  readonly detail: string
}

/** What was turned off for the copy and is not on again. */
export function stillOff({ row, bench }: Move): StillOff[] {
  const seen = new Set<string>()
  return (row.ready?.turnedOff ?? []).flatMap(({ computerId, what, of, name, minutes }): StillOff[] => {
    const computer = bench.computers.find((c) => c.id === computerId)
    const id = `${computerId}/${what}/${of}`
    if (!computer || seen.has(id)) return []
    seen.add(id)
    if (what === 'program') {
      const program = computer.programs.find((p) => p.id === of)
      return program && !program.running ? [{ id, title: name, detail: `closed on the ${computer.name}` }] : []
    }
    if (what === 'network') return computer.online ? [] : [{ id, title: name, detail: `off on the ${computer.name}` }]
    if (computer.sleepMinutes !== null) return []
    return [{ id, title: name, detail: `was after ${minutes} minutes on the ${computer.name}` }]
  })
}

/** Turns one of them, or all, on again, in the computer where it runs now. */
export async function turnOn(moveId: string, id: string | undefined): Promise<void> {
  const move = await loadMove(moveId)
  const off = stillOff(move).filter((o) => id === undefined || o.id === id)
  if (off.length === 0) throw new Refusal('Everything that was turned off is on again.')
  for (const { id: which, title } of off) {
    const entry = move.row.ready!.turnedOff.find((t) => `${t.computerId}/${t.what}/${t.of}` === which)!
    const computer = await computerById(entry.computerId)
    if (computer.running !== 'system')
      throw new Refusal(`The ${computer.name} is not running its own system. Start it first.`)
    if (entry.what === 'program') {
      const programs = computer.programs.map((p) => (p.id === entry.of ? { ...p, running: true } : p))
      await changeComputer(computer.id, { programs })
    } else if (entry.what === 'network') await changeComputer(computer.id, { online: true })
    else await changeComputer(computer.id, { sleepMinutes: entry.minutes })
    await note(moveId, `on again: ${title.toLowerCase()}`, 'good')
  }
  await keep(moveId, {})
}

/** Room of the new drive that no partition has; with the one in front of it where that could take it. Never written. */
export async function freeRoom(drive: Drive): Promise<{ bytes: number; partition: number } | undefined> {
  const opened = await openDrive(driveBytes(drive), { writable: false })
  try {
    const device = readOnly(opened.device)
    const reading = await readScheme(device)
    if (!reading || reading.scheme === 'damaged') return undefined
    const room = roomBehind({ drive: { driveId: drive.id, name: driveName(drive), slot: '', device }, reading })
    return room && { bytes: room.bytes, partition: room.partition.number }
  } finally {
    await opened.close()
  }
}
