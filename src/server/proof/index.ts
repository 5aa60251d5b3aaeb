import { type OpenDrive, openDrive } from '@/bench/open-drive'
import type { Computer } from '@/core/things/computer'
import { driveName } from '@/core/things/drive'
import { readOnly } from '@/core/block/readonly'
import { referenceFrom } from '@/core/boot/reference'
import type { AttachedDrive } from '@/core/boot/start'
import { DRIVERS_OF } from '@/core/boot/systems'
import { traceStart } from '@/core/boot/trace'
import { type Apart, compareWithSource, type ProofCheck } from '@/core/proof/compare'
import { driveIn } from '@/core/things/bench'
import { changeComputer, driveBytes, withDrive } from '../bench'
import { benchNow } from '../clock'
import { latestCopy } from '../copy/current'
import { blake3 } from '@/host/strong-digest'
import { sha256 } from '@/host/sha256'
import { note } from '../logbook'
import { keep, loadMove, type Move } from '../move'
import { progressOf } from '../move/legs'
import { Refusal } from '../refusal'
import { trialComputer } from './computer'
import { settleRepairs } from './repairs'

/** Starts the computer and follows the start on the bytes of what is in its slots. */
export async function startTrial(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const { row } = move
  const computer = trialComputer(move)
  if (!row.survey) throw new Refusal('Read the drives in Survey first.')
  await settleRepairs(move)
  if (!computer.mains) throw new Refusal(`The ${computer.name} has no mains power: plug it in first.`)
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') {
    throw new Refusal('A copy is reading this computer’s drive; it cannot be started now.')
  }
  const system = row.survey.pairs[0].source
  const fits = row.fit?.pairs
  const opened: OpenDrive[] = []
  try {
    const attached = await attach(move, computer, opened)
    const trace = await traceStart(computer.firmware, attached, referenceFrom(system), sha256)
    const subject = subjectOf(move, trace.startedFrom ?? attached[0]?.driveId)
    const checks =
      trace.starts && subject === 'target' && fits ? await compareAll(move, fits, trace.systemPartitionGuid) : []
    const drive = move.bench.drives.find((d) => d.id === (trace.startedFrom ?? attached[0]?.driveId))
    const trial = { at: await benchNow(), drive: drive ? driveName(drive) : 'no drive', subject, trace, checks }
    await changeComputer(computer.id, { running: trace.starts ? 'system' : 'off' })
    const repairs = row.proof?.repairs ?? []
    await keep(moveId, { proof: { trials: [...(row.proof?.trials ?? []), trial].slice(-20), repairs } })
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

/** Every drive against its source; a further drive's checks carry its name. */
async function compareAll(
  move: Move,
  fits: NonNullable<Move['row']['fit']>['pairs'],
  systemPartitionGuid: string | undefined,
): Promise<ProofCheck[]> {
  const checks: ProofCheck[] = []
  for (const [i, { source, target }] of move.pairs.entries()) {
    const fit = fits[i]
    if (!target || !fit) continue
    const apart = await apartOf(move, i)
    const found = await withDrive(source, (from) =>
      withDrive(target, (to) =>
        compareWithSource(from, to, fit.layout, i === 0 ? systemPartitionGuid : undefined, sha256, blake3, apart),
      ),
    )
    const named = (check: ProofCheck) => ({
      ...check,
      id: `${check.id}-${i}`,
      title: `${driveName(target)}: ${check.title}`,
    })
    checks.push(...(i === 0 ? found : found.filter((c) => c.id !== 'system-volume').map(named)))
  }
  return checks
}

/** Files of a pair that are known to differ from its source. */
async function apartOf(move: Move, pair: number): Promise<Apart[]> {
  const progress = await progressOf(move.row)
  const repaired = (move.row.proof?.repairs ?? []).filter((r) => !r.undone && r.driveId === move.pairs[pair].target?.id)
  const summaries = (progress?.legs ?? []).flatMap(({ transfer }, i) =>
    transfer.pair === pair ? (progress!.copies[i]?.summary ?? []) : [],
  )
  const differing = summaries.flatMap((s) => [
    ...s.partitions.flatMap((p) => p.leftOut.map(({ path }) => ({ path, partition: p.number }))),
    ...(s.live?.files ?? []).map(({ path, partition }) => ({ path, sourcePartition: partition })),
  ])
  return [...differing, ...repaired.flatMap((r) => r.files)]
}

async function attach(move: Move, computer: Computer, opened: OpenDrive[]): Promise<AttachedDrive[]> {
  const attached: AttachedDrive[] = []
  for (const slot of computer.slots) {
    const drive = driveIn(move.bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
    if (!drive) continue
    const drivesBytes = await openDrive(driveBytes(drive), { writable: false })
    opened.push(drivesBytes)
    attached.push({
      driveId: drive.id,
      name: driveName(drive),
      slot: slot.id,
      device: readOnly(drivesBytes.device),
      drivers: DRIVERS_OF[drive.protocol],
    })
  }
  return attached
}

function subjectOf(move: Move, driveId: string | undefined): 'source' | 'target' | 'none' {
  const [system] = move.pairs
  if (driveId === system.target?.id) return 'target'
  return driveId === system.source.id ? 'source' : 'none'
}
