import { onTray } from '@/core/swap/tray'
import { driveIn } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { hasStarted } from '../../database/notes'
import { movesAlone, oldDriveStays, plateOf } from '../../moves'
import { phaseNow, phaseToUntick, stepsOf } from '../../moves/legs'
import type { MovePage } from '../../moves/page'

export function swapView({ move, progress }: MovePage) {
  const phase = phaseNow(progress!)
  const { steps, done, ticks } = stepsOf(move, progress!, phase)
  const step = steps[done.length] ?? steps.at(-1)
  // Hands have nothing to do at a virtual machine.
  const goal = move.goal?.virtual ? undefined : move.goal
  const computer = move.bench.computers.find((c) => c.id === step?.computerId) ?? goal ?? move.computer
  const involved = move.bench.drives.filter(
    (d) =>
      move.pairs.some((p) => p.source.id === d.id || p.target?.id === d.id) ||
      progress!.legs.some((l) => l.transfer.to.kind === 'drive' && l.transfer.to.driveId === d.id),
  )
  return {
    steps,
    done: done.length,
    /** The step that was ticked last can be unticked. */
    canUntick: phaseToUntick(move, progress!) === phase,
    ticks,
    tray: onTray(
      steps,
      done.map((d) => d.id),
      ticks,
    ),
    /** A start from the new drive has passed, which the last steps wait for. */
    started: hasStarted(move),
    /** More copying comes after these steps. */
    beforeLeg: phase < progress!.legs.length ? { number: phase + 1, of: progress!.legs.length } : null,
    computer: {
      name: computer.name,
      slots: computer.slots.map((s) => {
        const drive = driveIn(move.bench, { kind: 'slot', computerId: computer.id, slot: s.id })
        return { id: s.id, holds: drive ? driveName(drive) : null }
      }),
      mains: computer.mains,
      kind: computer.chassis.kind,
      cover: computer.chassis.cover,
      driveMount: computer.chassis.driveMount,
    },
    tools: computer.chassis.tools,
    drives: involved.map((d) => ({
      ...plateOf(d, move.bench),
      here: d.place.kind === 'slot' && d.place.computerId === computer.id,
      role: move.pairs.some((p) => p.source.id === d.id)
        ? movesAlone(move)
          ? 'Source'
          : 'Old drive'
        : move.pairs.some((p) => p.target?.id === d.id)
          ? movesAlone(move)
            ? 'Target'
            : 'New drive'
          : 'Transfer drive',
    })),
    /** Both drives may be in a computer together. */
    apart: movesAlone(move) || oldDriveStays(move),
    target: move.pairs[0].target ? driveName(move.pairs[0].target) : 'virtual disk',
  }
}
