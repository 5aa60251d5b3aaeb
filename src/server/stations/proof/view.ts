import { MIB } from '@/core/bytes/size'
import { driveIn } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { isWithinReach } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { clockTime } from '../../ground/words'
import { movesAlone, oldDriveStays } from '../../moves'
import { stepsAfterStart } from '../../moves/legs'
import type { MovePage } from '../../moves/page'
import { stillOff } from '../../moves/turned-off'
import { menuOf } from '../../world/computers'
import { emulatorHere } from '../../world/emulator'
import { RUNNING } from '../../world/computers/words'
import { freeRoom } from './after'
import { firstStart } from './first-start'
import { offeredRepairs, offeredTidying, rearranged, repairWaits } from './repairs'
import { wayBack } from './way-back'

export async function proofView({ move, progress, plates }: MovePage) {
  const { row, bench, goal } = move
  const trials = row.proof?.trials ?? []
  const last = trials.at(-1)
  const computer = goal ?? move.computer
  const [{ source, target }] = plates
  const started = last?.trace.starts && last.subject === 'target'
  const newDrive = move.pairs[0].target
  const room = started && newDrive ? await freeRoom(newDrive) : undefined
  const layout = row.fit?.pairs[0]?.layout
  return {
    /** Lines of its boot menu, for a start by one of them. */
    menu: await menuOf(bench, computer),
    after: started
      ? {
          speeds: last.speeds,
          off: stillOff(move),
          turnedOff: row.ready?.turnedOff.length ?? 0,
          tidying: await offeredTidying(move),
          room: room && {
            bytes: room.bytes,
            into: layout?.partitions.find((p) => p.number === room.partition)?.title ?? `partition ${room.partition}`,
          },
        }
      : null,
    /** The case is closed only now that it has started: the first step of that, if any is open. */
    closing: progress ? (stepsAfterStart(move, progress)[0]?.title ?? null) : null,
    firstStart: (await firstStart(move)) ?? null,
    machine: goal?.virtual ? machineView(goal) : null,
    wayBack: trials.length > 0 ? (wayBack(move) ?? null) : null,
    trial: last && {
      ...{ ...last, time: clockTime(last.at), number: trials.length },
      toldTime: last.told ? clockTime(last.told.at) : null,
    },
    /** What the computer does is seen by whoever stands before it; `here`: the new drive can still be read. */
    real: provider().hasPower ? null : { here: newDrive !== undefined && isWithinReach(newDrive) },
    mode: computer.firmware.mode,
    /** The new drive, where it can be started in an emulated computer on this host. */
    emulated: newDrive && isWithinReach(newDrive) && (await emulatorHere()) ? newDrive.id : null,
    alone: movesAlone(move),
    stays: oldDriveStays(move),
    repaired: repairWaits(move),
    rearranged: rearranged(move),
    offered: await offeredRepairs(move),
    repairs: (row.proof?.repairs ?? []).map((r) => ({ ...r, time: clockTime(r.at) })),
    swapped: progress !== undefined && progress.copied === progress.legs.length && progress.phase === undefined,
    computer: { id: computer.id, name: computer.name, running: RUNNING[computer.running], mains: computer.mains },
    inComputer: computer.slots.map((slot) => {
      const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
      return {
        slot: slot.id,
        which: drive?.id === source.id ? 'source' : drive?.id === target?.id ? 'target' : drive ? 'other' : 'none',
      } as const
    }),
    source,
    target,
  }
}

/** What of a virtual machine is set where it is started. */
function machineView({ memoryBytes, processors, virtual, networkCards: [card] }: Computer) {
  return {
    memoryMib: memoryBytes / MIB,
    leastMemoryMib: (virtual?.leastMemoryBytes ?? memoryBytes) / MIB,
    processors: processors.count * processors.cores,
    vlan: card?.vlan ?? null,
  }
}
