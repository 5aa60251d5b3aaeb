import * as z from 'zod'
import { chosenOnce } from '@/core/boot/menu'
import { referenceFrom, referenceInto } from '@/core/boot/reference'
import type { Planned, ProofCheck } from '@/core/proof/compare'
import { plugsIn } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import { placeName } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { CopyRow } from '../../database/models'
import { inTransaction } from '../../database/transaction'
import type { Trial, TrialSpeed } from '../../database/schemas'
import { Refusal } from '../../ground/refusals'
import type { StartedJob } from '../../jobs'
import { runTask } from '../../jobs/threads'
import type { PairOrder } from '../../jobs/threads/tasks/compare-drives'
import type { StartOrder } from '../../jobs/threads/tasks/trial'
import { leasableDrive } from '../../leases'
import { saveStationResults, loadMove, type Move, moveRow, hasOwnIdentity } from '../../moves'
import { latestCopy } from '../../moves/copies'
import { startMoveJob } from '../../moves/jobs'
import { progressOf } from '../../moves/legs'
import { movedVolumesOf } from '../../moves/moved'
import { changeComputer, driveBytes } from '../../world'
import { benchNow } from '../../world/clock'
import { attachedNow } from '../../world/computers/attach'
import { findDuplicateDiskIds } from '../../world/computers/duplicate-ids'
import { refuseTwinOnNetwork } from '../../world/computers/network'
import { speedOf } from '../../world/measure'
import { trialComputer } from './computer'
import { settleRepairs } from './repairs'
import { seatsOf } from './seats'

/**
 * Starts the computer and follows the start on the bytes of what is in its slots; by a line of its boot menu where one
 * is chosen, for this once.
 */
export async function startTrial(moveId: string, choice?: string): Promise<StartedJob> {
  const move = await loadMove(moveId)
  const { row } = move
  const computer = trialComputer(move)
  if (!row.survey) throw new Refusal('no-survey')
  await settleRepairs(move)
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') {
    throw new Refusal('computer-being-copied')
  }
  if (provider().hasPower) {
    if (!computer.mains) throw new Refusal('computer-no-mains', { computer: computer.name })
    await refuseTwinOutside(move, computer)
    await refuseTwinOnNetwork(computer, move.bench)
  }
  const { attached } = seatsOf(move, computer)
  if (attached.length === 0 && !provider().reachOf(computer).inside)
    throw new Refusal('start-unseen', { computer: computer.name })
  const inside = move.bench.drives.filter((d) => attached.some((a) => a.driveId === d.id))
  return startMoveJob(moveId, {
    kind: 'trial',
    title: `Start of the ${computer.name}`,
    purpose: `a start of the ${computer.name}`,
    lease: { read: await Promise.all(inside.map(leasableDrive)), needsPower: true },
    leaves: 'Nothing was written.',
    stoppable: true,
    run: ({ signal }) => tryStart(move, computer, { choice, signal }),
    save: (trial) => inTransaction(() => saveTrial(moveId, computer, trial)),
  })
}

async function tryStart(
  move: Move,
  computer: Computer,
  { choice, signal }: { choice: string | undefined; signal: AbortSignal },
): Promise<Trial> {
  const { source, target } = move.row.survey!.pairs[0]
  const fits = move.row.fit?.pairs
  const layout = fits?.[0]?.layout
  const into = layout?.into && target ? layout.partitions[0] : undefined
  const { attached, named: inSlots } = seatsOf(move, computer)
  const firmware = choice === undefined ? computer.firmware : chosenOnce(computer.firmware, choice)
  const reference = into
    ? referenceInto(source, target!, { volume: into.sourceNumber, guid: into.guid })
    : referenceFrom(source)
  // Among several systems the one that came is chosen, unless a person chose by the boot menu.
  const chosen = into && choice === undefined ? { system: into.number } : {}
  const trace = await runTask('followStart', { firmware, attached, reference, ...chosen }, { signal, long: true })
  const startedFrom = trace.startedFrom ?? attached.at(0)?.driveId
  const subject = subjectOf(move, startedFrom)
  const isNew = trace.starts && subject === 'target'
  const checks = isNew && fits ? await compareAll(move, fits, { startedGuid: systemOnTarget(move, trace), signal }) : []
  if (isNew && into) checks.push(...(await othersStart({ firmware, attached }, into.number, target!, signal)))
  const drive = move.bench.drives.find((d) => d.id === startedFrom)
  const named = drive ? driveName(drive) : 'no drive'
  const speeds = isNew ? await speedsAfter(move, signal) : []
  return { at: await benchNow(), drive: named, subject, trace, checks, speeds, attached: inSlots }
}

export const ToldSchema = z.object({ starts: z.boolean() })

/** Takes what a person saw a real computer do, started from the new drive. */
export async function tellStart(moveId: string, input: unknown): Promise<void> {
  const { starts } = ToldSchema.parse(input)
  if (provider().hasPower) throw new Refusal('start-is-followed')
  await inTransaction(() => keepTold(moveId, starts))
}

async function keepTold(moveId: string, starts: boolean): Promise<void> {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  if (!progress || progress.copied < progress.legs.length) throw new Refusal('swap-before-copy')
  const { target } = move.pairs[0]
  const at = await benchNow()
  const trials = move.row.proof?.trials ?? []
  const last = trials.at(-1)
  // What was followed on the bytes of the new drive stands beside what was seen.
  const followed = last && last.subject === 'target' && !last.told ? last : undefined
  const bare: Trial = {
    ...{ at, drive: target ? driveName(target) : 'new drive', subject: 'target', checks: [], speeds: [] },
    ...{ trace: { links: [], starts }, attached: attachedNow(trialComputer(move), move.bench) },
  }
  const told: Trial = { ...(followed ?? bare), told: { at, starts } }
  const line = {
    text: starts ? 'told: it starts from the new drive' : 'told: it does not start from the new drive',
    tone: starts ? 'good' : 'bad',
  } as const
  const kept = followed ? trials.slice(0, -1) : trials
  await saveStationResults(
    moveId,
    { proof: { trials: [...kept, told].slice(-20), repairs: move.row.proof?.repairs ?? [] } },
    line,
  )
}

/** The partition of the new drive that became the system; undefined where the system's volume is on another drive. */
function systemOnTarget({ pairs }: Move, { systemDrive, systemPartitionGuid }: Trial['trace']): string | undefined {
  return systemDrive === undefined || systemDrive === pairs[0].target?.id ? systemPartitionGuid : undefined
}

/** Whether the system that a drive had before starts by itself as it did; nothing where it had none. */
async function othersStart(
  start: Pick<StartOrder, 'firmware' | 'attached'>,
  into: number,
  before: DriveSurvey,
  signal: AbortSignal,
): Promise<ProofCheck[]> {
  const others = before.partitions.filter((p) => p.system && p.number !== into)
  if (others.length === 0) return []
  const trace = await runTask('followStart', { ...start, reference: referenceFrom(before) }, { signal, long: true })
  const by = before.partitions.find((p) => p.number === trace.systemPartition)
  const stop = trace.links.find((l) => l.state === 'failed')
  return [
    {
      id: 'other-system',
      title: 'The system that was there starts as before',
      passed: trace.starts && trace.systemPartition !== into,
      found: trace.starts
        ? (by?.system?.name ?? `partition ${trace.systemPartition ?? 'unknown'}`)
        : `stops at ${stop?.title.toLowerCase() ?? 'its start'}`,
    },
  ]
}

async function saveTrial(moveId: string, computer: Computer, trial: Trial): Promise<void> {
  const { trace } = trial
  const { proof } = await moveRow(moveId)
  if (provider().hasPower) await changeComputer(computer.id, { running: trace.starts ? 'system' : 'off' })
  const trials = [...(proof?.trials ?? []), trial].slice(-20)
  const stop = trace.links.find((l) => l.state === 'failed')
  const text = trace.starts ? `trial: starts from the ${trial.drive}` : `trial: stops at ${stop?.title.toLowerCase()}`
  const line = { text, tone: trace.starts ? 'good' : 'bad' } as const
  await saveStationResults(moveId, { proof: { trials, repairs: proof?.repairs ?? [] } }, line)
}

/**
 * A drive in a dock that is plugged into the computer is attached like one inside, and is not to be at a start from a
 * drive of the same identity.
 */
async function refuseTwinOutside({ bench, pairs, row }: Move, computer: Computer): Promise<void> {
  const plan = row.route?.plan
  if (!plan) return
  const ours = [...pairs.flatMap((p) => [p.source.id, p.target?.id]), ...Object.keys(row.route?.via ?? {})]
  const inside = bench.drives.filter((d) => d.place.kind === 'slot' && d.place.computerId === computer.id)
  const outside = bench.drives.filter(
    ({ id, place }) => ours.includes(id) && place.kind === 'bay' && plugsIn(plan, place.accessoryId, computer.id),
  )
  const twins = await findDuplicateDiskIds([...inside, ...outside])
  const left = twins && outside.find((d) => d.id === twins[1].id)
  if (!left) return
  throw new Refusal('proof-twins', {
    drive: driveName(left),
    place: placeName(left.place, bench),
    twin: driveName(twins[0]),
    computer: computer.name,
  })
}

/** Every drive against its source; a further drive's checks carry its name. */
async function compareAll(
  move: Move,
  fits: NonNullable<Move['row']['fit']>['pairs'],
  { startedGuid: systemGuid, signal }: { startedGuid: string | undefined; signal: AbortSignal },
): Promise<ProofCheck[]> {
  const orders: PairOrder[] = []
  const targets: { pair: number; drive: Drive }[] = []
  for (const [i, { target }] of move.pairs.entries()) {
    const fit = fits[i]
    const source = move.row.survey?.pairs[i].source
    if (!target || !fit || !source) continue
    targets.push({ pair: i, drive: target })
    const grown = standing(move, target.id).flatMap((r) => r.grows ?? [])
    const startedGuid = i === 0 ? systemGuid : undefined
    const { apart, samples, lost } = await notedOf(move, i)
    const before = fit.layout.into ? (move.row.survey!.pairs[i].target ?? undefined) : undefined
    const moved = i === 0 && hasOwnIdentity(move) ? movedVolumesOf(move) : undefined
    const planned = { layout: fit.layout, source, samples, startedGuid, apart, lost, grown, before, moved }
    orders.push({ target: driveBytes(target), planned })
  }
  const found = await runTask('comparePairs', orders, { signal, long: true })
  return found.flatMap((checks, at) => {
    const { pair, drive } = targets[at]
    if (pair === 0) return checks
    const named = (check: ProofCheck) => ({
      ...check,
      id: `${check.id}-${pair}`,
      title: `${driveName(drive)}: ${check.title}`,
    })
    return checks.filter((c) => c.id !== 'system-volume').map(named)
  })
}

/** Repairs of a drive that were not taken back. */
function standing(move: Move, driveId: string | undefined) {
  return (move.row.proof?.repairs ?? []).filter((r) => !r.undone && r.driveId === driveId)
}

/** What every new drive does now, beside what its old one did. */
async function speedsAfter(move: Move, signal: AbortSignal): Promise<TrialSpeed[]> {
  const speeds: TrialSpeed[] = []
  for (const { source, target } of move.pairs) {
    const after = target && (await speedOf(target, move.bench, signal))
    if (!target || !after) continue
    const before = move.row.intake?.speeds[source.id]
    speeds.push({ source: driveName(source), target: driveName(target), after, ...(before ? { before } : {}) })
  }
  return speeds
}

/** What the copies of a pair noted of the old drive's files, and which of them are known to differ on the new one. */
async function notedOf(move: Move, pair: number): Promise<Pick<Planned, 'apart' | 'samples' | 'lost'>> {
  const progress = await progressOf(move.row)
  const copies = (progress?.legs ?? []).flatMap(({ transfer }, i) =>
    transfer.pair === pair ? (progress!.copies[i] ?? []) : [],
  )
  const differing = copies.flatMap(({ summary }) => [
    ...(summary?.partitions ?? []).flatMap((p) => p.leftOut.map(({ path }) => ({ path, partition: p.number }))),
    // Of one moment, the copy and the digests are the same one's.
    ...(summary?.live && !summary.live.oneMoment
      ? summary.live.files.map(({ path, partition }) => ({ path, sourcePartition: partition }))
      : []),
  ])
  const repaired = standing(move, move.pairs[pair].target?.id)
  const first = copies[0] && (await CopyRow.findByPk(copies[0].id, { attributes: ['samples'] }))
  const gone = copies.flatMap(({ summary }) => summary?.lost ?? [])
  const lost = {
    sectors: gone.reduce((sum, run) => sum + run.sectors, 0),
    files: [...new Set(gone.flatMap((run) => run.files))],
  }
  return { apart: [...differing, ...repaired.flatMap((r) => r.files)], samples: first?.samples ?? null, lost }
}

function subjectOf(move: Move, driveId: string | undefined): 'source' | 'target' | 'none' {
  const [system] = move.pairs
  if (driveId === system.target?.id) return 'target'
  return driveId === system.source.id ? 'source' : 'none'
}
