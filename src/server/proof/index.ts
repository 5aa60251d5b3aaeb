import { driveName } from '@/bench/places'
import { type OpenDrive, openDrive } from '@/bench/open-drive'
import { readOnly } from '@/core/block/readonly'
import { referenceFrom } from '@/core/boot/reference'
import { type AttachedDrive, traceStart } from '@/core/boot/trace'
import { compareWithSource } from '@/core/proof/compare'
import { changeComputer, driveBytes, withDrive } from '../bench'
import { benchNow } from '../clock'
import { latestCopy } from '../copy/current'
import { sha256 } from '../digest'
import { note } from '../logbook'
import { keep, loadMove, type Move } from '../move'
import { Refusal } from '../refusal'

/** Starts the computer and follows the start on the bytes of what is in its slots. */
export async function startTrial(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const { computer, row } = move
  if (!row.survey) throw new Refusal('Read the drives in Survey first.')
  if (!computer.mains) throw new Refusal(`The ${computer.name} has no mains power: plug it in first.`)
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') {
    throw new Refusal('A copy is reading this computer’s drive; it cannot be started now.')
  }
  const opened: OpenDrive[] = []
  try {
    const attached = await attach(move, opened)
    const trace = await traceStart(computer.firmware, attached, referenceFrom(row.survey.source), sha256)
    const subject = subjectOf(move, trace.startedFrom ?? attached[0]?.driveId)
    const checks =
      trace.starts && subject === 'target' && row.fit
        ? await withDrive(move.source, (source) =>
            withDrive(move.target, (target) =>
              compareWithSource(source, target, row.fit!.layout, trace.systemPartitionGuid, sha256),
            ),
          )
        : []
    const drive = move.bench.drives.find((d) => d.id === (trace.startedFrom ?? attached[0]?.driveId))
    const trial = { at: await benchNow(), drive: drive ? driveName(drive) : 'no drive', subject, trace, checks }
    await changeComputer(computer.id, { running: trace.starts ? 'system' : 'off' })
    await keep(moveId, { proof: { trials: [...(row.proof?.trials ?? []), trial].slice(-20) } })
    const stop = trace.links.find((l) => l.state === 'failed')
    await note(
      moveId,
      trace.starts ? `trial: starts from the ${trial.drive}` : `trial: stops at ${stop?.title.toLowerCase()}`,
      trace.starts ? 'good' : 'bad',
    )
  } finally {
    for (const device of opened) await device.close()
  }
}

async function attach(move: Move, opened: OpenDrive[]): Promise<AttachedDrive[]> {
  const attached: AttachedDrive[] = []
  for (const slot of move.computer.slots) {
    const drive = move.bench.drives.find(
      (d) => d.place.kind === 'slot' && d.place.computerId === move.computer.id && d.place.slot === slot.id,
    )
    if (!drive) continue
    const drivesBytes = await openDrive(driveBytes(drive), { writable: false })
    opened.push(drivesBytes)
    attached.push({ driveId: drive.id, name: driveName(drive), slot: slot.id, device: readOnly(drivesBytes.device) })
  }
  return attached
}

function subjectOf(move: Move, driveId: string | undefined): 'source' | 'target' | 'none' {
  if (driveId === move.target.id) return 'target'
  return driveId === move.source.id ? 'source' : 'none'
}
