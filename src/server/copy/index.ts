import { mkdir, unlink } from 'node:fs/promises'
import { z } from 'zod'
import type { HeatModel } from '@/core/copy/heat'
import type { Lost } from '@/core/copy/progress'
import type { Recheck } from '@/core/copy/source-binding'
import { plateMatches } from '@/core/ready/plate-check'
import { berthOf } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { driveBytes } from '../bench'
import { benchNow, pace, setPace } from '../clock'
import { CopyRow } from '../database/models'
import { publish } from '../events'
import { note } from '../logbook'
import { fitsLocked, loadMove, type Move } from '../move'
import { type LegNow, loadLeg, progressOf } from '../move/legs'
import { leasableDrive, type Lease, type LeaseRequest, startWithLease } from '../leases'
import { journalsFolder } from '../paths'
import { copyNote, readyState } from '../ready'
import { Refusal } from '../refusal'
import { type CopyView, journalOf, latestCopy, recover, running, snapshotOf } from './current'
import { launch, tell } from './launch'
import type { CopyOrder, WorkerDrive } from './messages'

export const StartCopySchema = z.object({
  plate: z.string().max(40),
  /** What the list showed of both drives when the plate was typed. */
  seen: z.string().max(130).default(''),
  /** The plates of further drives, by drive. */
  further: z.record(z.string().max(80), z.string().max(40)).default({}),
})

/** Starts the copy of a move. Throws Refusal, nothing written, unless everything on the list is settled and the plate matches. */
export async function startCopy(moveId: string, input: unknown): Promise<void> {
  const { plate, seen, further } = StartCopySchema.parse(input)
  await recover()
  const move = await loadMove(moveId)
  const leg = await legToCopy(move)
  if (leg.from.id === leg.to.id) throw new Refusal('Source and target are the same drive. Nothing was written.')
  await startWithLease(await leaseFor(move, leg, await furtherDrives(move)), (lease) =>
    startLeased(move, leg, { plate, seen, further }, lease),
  )
}

/** Decides and starts while nobody else can take the drives. The lease goes to the copy, which releases it at its end. */
async function startLeased(
  move: Move,
  leg: LegNow,
  { plate, seen, further }: z.infer<typeof StartCopySchema>,
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  const ready = await readyState(move, leg)
  if (ready.open > 0) {
    const first = ready.items[0]
    throw new Refusal(`It may not start yet: ${first.title} ${first.why}. Nothing was written.`)
  }
  if (seen !== ready.seen) {
    throw new Refusal(
      'The drives are not as they were when you typed from the label. Look at the list and at the label again. Nothing was written.',
    )
  }
  for (const [drive, typed] of [[leg.to, plate], ...ready.further.map((d) => [d, further[d.id] ?? ''])] as [
    Drive,
    string,
  ][]) {
    if (!plateMatches(drive.serial, typed)) {
      throw new Refusal(`These are not the last four characters on the ${driveName(drive)}. Nothing was written.`)
    }
  }
  await forgetCutOff(moveId)
  const startedAt = Math.round(await benchNow())
  const job = `${moveId}-${leg.index}-${startedAt}`
  const { choices } = ready
  await CopyRow.create({
    id: job,
    moveId,
    leg: leg.index,
    way: leg.transfer.way,
    share: null,
    status: 'running',
    startedAt,
    endedAt: null,
    message: null,
    progress: null,
    summary: null,
    choices,
    goesOn: false,
    unequal: false,
  })
  const which = leg.of > 1 ? `leg ${leg.index + 1} of ${leg.of}` : 'copy'
  await note(
    moveId,
    `${which} started, ${driveName(leg.from)} to ${[leg.to, ...ready.further].map(driveName).join(', ')}`,
  )
  await launch(
    move,
    leg,
    {
      ...(await orderFor(move, leg, job)),
      task: { kind: 'copy' },
      source: workerDrive(leg.from, ready.sourceFingerprint),
      targets: [
        workerDrive(leg.to, ready.targetFingerprint),
        ...ready.further.map((d) => workerDrive(d, ready.furtherFingerprints[d.id])),
      ],
      choices,
    },
    lease,
  )
}

/** What an earlier copy of a move was cut off at counts no more once another one starts. */
async function forgetCutOff(moveId: string): Promise<void> {
  for (const { id } of await CopyRow.findAll({ where: { moveId, goesOn: true }, attributes: ['id'] })) {
    await unlink(journalOf(id)).catch(() => undefined)
    await CopyRow.update({ goesOn: false }, { where: { id } })
  }
}

/** Takes up a copy that was cut off or stopped, from what is sure of it. Throws Refusal, nothing written. */
export async function goOnWithCopy(moveId: string, recheck: Recheck = 'sample'): Promise<void> {
  await recover()
  const move = await loadMove(moveId)
  const leg = await legToCopy(move)
  const copy = await latestCopy(moveId, leg.index)
  if (!copy?.goesOn) throw new Refusal('There is no copy of this move that could be gone on with.')
  const further = copy.choices.further.map((id) => {
    const drive = move.bench.drives.find((d) => d.id === id)
    if (!drive) throw new Refusal('A drive that this copy writes is no longer on the bench. Start the copy over.')
    return drive
  })
  await startWithLease(await leaseFor(move, leg, further), (lease) =>
    goOnLeased(move, leg, { copy, further, recheck }, lease),
  )
}

async function goOnLeased(
  move: Move,
  leg: LegNow,
  { copy, further, recheck }: { copy: CopyView; further: readonly Drive[]; recheck: Recheck },
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  const ready = await readyState(move, leg)
  // A target that this very copy marked is another than when it was surveyed; the copy itself looks at its mark.
  const connected = berthOf(leg.to, move.bench).link !== undefined
  const item = ready.items.find((i) => i.state !== 'settled' && !(i.id === 'target-same' && connected))
  if (item) throw new Refusal(`It may not go on yet: ${item.title} ${item.why}. Nothing was written.`)
  await CopyRow.update({ status: 'running', endedAt: null, message: null, goesOn: false }, { where: { id: copy.id } })
  await note(
    moveId,
    recheck === 'every' ? 'copy resumed, every copied piece compared first' : 'copy resumed from the last checkpoint',
  )
  await launch(
    move,
    leg,
    {
      ...(await orderFor(move, leg, copy.id)),
      task: { kind: 'copy' },
      source: workerDrive(leg.from, ready.sourceFingerprint),
      targets: [leg.to, ...further].map((d) => workerDrive(d)),
      choices: copy.choices,
      resume: { progress: copy.progress, recheck },
    },
    lease,
  )
}

/** Reads what a finished copy lost once more. Throws Refusal, nothing written. */
export async function retryLostOf(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  const index = (progress?.copied ?? 0) - 1
  const copy = progress?.copies[index]
  if (!copy?.summary || copy.summary.lost.length === 0) throw new Refusal('This copy lost nothing.')
  if (progress!.copies[index + 1] || (move.row.swap?.phases[index + 1]?.done.length ?? 0) > 0)
    throw new Refusal('The drives were moved since this copy; lost sectors are read again before the swap.')
  const leg = await loadLeg(move, index)
  for (const drive of [leg.from, leg.to]) {
    if (!berthOf(drive, move.bench).link) throw new Refusal(`The ${driveName(drive)} is not connected.`)
  }
  const { lost, targetFingerprint: fingerprint } = copy.summary
  await startWithLease(await leaseFor(move, leg, []), (lease) =>
    retryLeased(move, leg, { ...copy, lost, fingerprint }, lease),
  )
}

async function retryLeased(
  move: Move,
  leg: LegNow,
  copy: Pick<CopyView, 'id' | 'choices' | 'progress'> & { lost: readonly Lost[]; fingerprint: string },
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  await CopyRow.update({ status: 'running' }, { where: { id: copy.id } })
  await note(moveId, 'lost sectors are read once more')
  await launch(
    move,
    leg,
    {
      ...(await orderFor(move, leg, copy.id)),
      task: { kind: 'retry', lost: copy.lost },
      source: workerDrive(leg.from),
      targets: [workerDrive(leg.to, copy.fingerprint)],
      choices: copy.choices,
      resume: { progress: copy.progress },
    },
    lease,
  )
}

export const CopyCommandSchema = z.object({
  command: z.enum(['pause', 'resume', 'stop', 'go-on', 'retry-lost']),
  /** Of going on: what was copied before is compared piece by piece, or a sample of it. */
  recheck: z.enum(['sample', 'every']).default('sample'),
})

/** Pauses, resumes or stops the running copy of a move, or takes one up again. */
export async function commandCopy(moveId: string, input: unknown): Promise<void> {
  const { command, recheck } = CopyCommandSchema.parse(input)
  if (command === 'go-on') return goOnWithCopy(moveId, recheck)
  if (command === 'retry-lost') return retryLostOf(moveId)
  const copy = running().get(moveId)
  if (!copy) throw new Refusal('No copy of this move is running.')
  tell(copy, { type: command })
  if (command === 'stop') return
  copy.status = command === 'pause' ? 'paused' : 'running'
  if (command === 'resume') {
    // The clock went on meanwhile; what the copy takes counts from here.
    copy.benchStart = (await benchNow()) - copy.benchMilliseconds
  }
  await CopyRow.update({ status: copy.status }, { where: { id: copy.id } })
  await note(moveId, command === 'pause' ? 'copy paused' : 'copy goes on')
  publish({ type: 'changed', moveId })
}

/** Changes the pace of bench time, for what runs now too. */
export async function changePace(value: '1' | '30' | 'max'): Promise<void> {
  await setPace(value)
  for (const copy of running().values()) tell(copy, { type: 'pace', pace: value })
  publish({ type: 'changed', moveId: null })
}

/** The leg that is to be copied. Throws Refusal when there is none. */
async function legToCopy(move: Move): Promise<LegNow> {
  if (running().has(move.id)) throw new Refusal('This copy is running already.')
  if (!fitsLocked(move.row) || !move.row.route)
    throw new Refusal('There is no locked fit to copy by. Lock it in Fit first.')
  const progress = (await progressOf(move.row))!
  if (progress.copied === progress.legs.length)
    throw new Refusal('All legs of this move are copied. It is not copied again.')
  return loadLeg(move)
}

/** The source for reading, its targets for itself alone. Whoever pulls one ends the copy, as at a real bench. */
async function leaseFor(move: Move, leg: LegNow, further: readonly Drive[]): Promise<LeaseRequest> {
  return {
    purpose: `the copy of ${move.brief.name}`,
    mayBePulled: true,
    read: [await leasableDrive(leg.from)],
    write: await Promise.all([leg.to, ...further].map(leasableDrive)),
  }
}

/** The drives that are chosen to be written in the same reading. */
async function furtherDrives(move: Move): Promise<Drive[]> {
  const ids = move.row.ready?.choices.further ?? []
  return move.bench.drives.filter((d) => ids.includes(d.id))
}

async function orderFor(move: Move, leg: LegNow, job: string) {
  await mkdir(journalsFolder(), { recursive: true })
  const heat = heatOf(leg.from)
  const live = leg.transfer.live ? liveOf(move, leg, snapshotOf(journalOf(job))) : undefined
  return {
    job,
    layout: leg.layout,
    ...(leg.sampledBy ? { sampledBy: leg.sampledBy } : {}),
    timing: leg.transfer.timing,
    note: copyNote(move, leg),
    pace: await pace(),
    journal: journalOf(job),
    ...(heat ? { heat } : {}),
    ...(live ? { live } : {}),
  } satisfies Partial<CopyOrder>
}

/** What of a running computer the copy has to know. */
function liveOf(move: Move, { source, transfer }: LegNow, snapshotFile: string): CopyOrder['live'] {
  const extent = (p: (typeof source.partitions)[number]) => ({ offset: p.startBytes, length: p.sizeBytes })
  const system = source.partitions.find((p) => p.role === 'system')
  const computer = move.bench.computers.find((c) => c.id === transfer.by)
  if (!system || !computer) throw new Refusal('There is no system that runs from this drive.')
  return {
    system: extent(system),
    snapshotFile,
    direct: source.partitions.filter((p) => p.role === 'boot').map(extent),
    programs: computer.programs.filter((p) => p.running).map((p) => p.name),
  }
}

/** A hard disk that is read for hours warms up by so much. */
const WARMS_BY = 14

function heatOf({ kind, health }: Drive): HeatModel | undefined {
  if (kind !== 'hard disk' || !health) return undefined
  const start = health.temperatureCelsius
  return { start, busy: start + WARMS_BY, idle: Math.min(start, 30) }
}

function workerDrive(drive: Drive, fingerprint?: string): WorkerDrive {
  return { id: drive.id, name: driveName(drive), ...driveBytes(drive), ...(fingerprint ? { fingerprint } : {}) }
}
