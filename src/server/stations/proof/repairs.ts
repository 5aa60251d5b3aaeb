import { randomBytes } from 'node:crypto'
import { type OpenDrive, openDrive } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { fromBase64 } from '@/core/bytes/base64'
import { fileTime } from '@/core/bytes/file-time'
import { CoreError, orUndefined } from '@/core/errors'
import type { DriveSeat } from '@/core/repair/port'
import { readScheme } from '@/core/scheme'
import { driversAt } from '@/core/things/bodies'
import { type Drive, driveName, hasBytes, isWithinReach } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import type { StartedJob } from '../../jobs'
import { HostDiskFull, runTask } from '../../jobs/threads'
import type { TaskOrder, TaskResult } from '../../jobs/threads/tasks'
import type { PlannedRepair } from '../../jobs/threads/tasks/drive-readings'
import { leasableDrive, withLease } from '../../leases'
import { saveStationResults, loadMove, type Move, moveRow, oldDriveStays } from '../../moves'
import { startMoveJob } from '../../moves/jobs'
import type { LogWords } from '../../moves/logbook'
import { movedVolumesOf } from '../../moves/moved'
import { firmwareFile, nextRepairIds, repairFile, repairIdsOf } from '../../moves/repair-files'
import { changeComputer, driveBytes } from '../../world'
import { benchNow } from '../../world/clock'
import { attach } from '../../world/computers/attach'
import { keptReading } from '../../world/kept-readings'
import { stickImage } from '../../world/stick'
import { knownCard } from '../../moves/goal'
import { trialComputer } from './computer'
import { INTERFACE_OF_CARD, oldAddress } from './old-address'
import { takeFirmwareBack, writeRealFirmware } from './real-firmware'
import { seatsOf, slotOf } from './seats'

/** What a repair would do, or why it cannot be done. */
export interface OfferedRepair {
  readonly name: string
  readonly title: string
  readonly changes: readonly string[]
  readonly why: string | null
}

/** The repairs that are known for where the last trial stopped, worked out on the drive's bytes. Nothing is written. */
export async function offeredRepairs(move: Move): Promise<OfferedRepair[]> {
  if (repairWaits(move) || rearranged(move)) return []
  const names = namesOffered(move)
  const target = repairable(move)
  if (!target || names.length === 0 || !isThere(target)) return []
  return (await plannedRepairs(move, target, names)).map(({ name, title, changes, changesNothing, why }) =>
    why === null
      ? { name, title, changes, why: changesNothing ? 'The drive shows nothing that this would change.' : null }
      : { name, title: 'A repair that cannot be made here', changes, why },
  )
}

/** What is known for where the last trial stopped; and beside the old drive, that the firmware starts the new one. */
function namesOffered(move: Move): readonly string[] {
  const last = move.row.proof?.trials.at(-1)
  const failed = last?.trace.links.find((l) => l.state === 'failed')?.repairs ?? []
  const first = oldDriveStays(move) && (!last || (last.trace.starts && last.subject === 'source'))
  // What is out of reach here is set at the computer, by hand.
  if (provider().reachOf(trialComputer(move)).firmware === 'none') return failed.filter((n) => n !== 'boot-entry')
  return first ? ['boot-entry', ...failed.filter((n) => n !== 'boot-entry')] : failed
}

/** What may be tidied on a drive that starts, in this order, and of these what only another computer asks for. */
const TIDYING = ['volume-size', 'old-letters', 'bring-network-driver', 'old-devices']
const OF_ANOTHER_COMPUTER = ['bring-network-driver', 'old-devices']
/** Repairs that bring in something from the driver folder of the stick. */
const BRINGING = ['bring-driver', 'bring-network-driver']

/** What would make a drive that starts tidier; nothing of what it needs not. Nothing is written. */
export async function offeredTidying(move: Move): Promise<OfferedRepair[]> {
  const target = repairable(move)
  if (!target || repairWaits(move)) return []
  if (!isThere(target)) return []
  const planned = await plannedRepairs(move, target, tidyingOf(move))
  return planned
    .filter(({ changesNothing }) => !changesNothing)
    .map(({ name, title, changes }) => ({ name, title, changes, why: null }))
}

function tidyingOf({ brief }: Move): readonly string[] {
  const goesElsewhere = brief.targetComputerId !== null || brief.toVirtualMachine
  return goesElsewhere ? TIDYING : TIDYING.filter((n) => !OF_ANOTHER_COMPUTER.includes(n))
}

const isThere = (drive: Drive) => hasBytes(drive) && isWithinReach(drive)

/** What repairs would change, read off the drive once for as long as it stays the same. */
async function plannedRepairs(move: Move, target: Drive, names: readonly string[]): Promise<PlannedRepair[]> {
  const question = await questionFor(move, target, names)
  // What is of this moment or chance changes nothing of what would be changed.
  const about = { ...question, time: undefined, chance: undefined, startCode: keptStartCode(move) }
  const stick = stickFor(move, names)
  const planned = keptReading(
    'planRepairs',
    { drive: driveBytes(target), names, question, stick },
    { about: [names, about], beside: stick === undefined ? [] : [stick] },
  )
  // What is pulled out, or lost on its way, offers nothing.
  return planned.catch((error: unknown) => {
    if (error instanceof CoreError) return []
    throw error
  })
}

/** Other drives are in the slots than at the last trial, so that what it said is no longer of these. */
export function rearranged(move: Move): boolean {
  const last = move.row.proof?.trials.at(-1)
  if (!last || !move.goal || !provider().reachOf(move.goal).inside) return false
  return last.attached.join() !== seatsOf(move, move.goal).named.join()
}

/** A repair was made since the last trial, and only the next one can tell whether it mended anything. */
export function repairWaits({ row }: Move): boolean {
  const last = row.proof?.trials.at(-1)
  return (row.proof?.repairs ?? []).some((r) => !r.undone && r.trialAt === last?.at)
}

/** Makes a repair on the new drive. The old drive is never written to. */
export async function makeRepair(moveId: string, name: string): Promise<StartedJob> {
  await settleRepairs(await loadMove(moveId))
  const move = await loadMove(moveId)
  const target = repairable(move)
  if (!target) throw new Refusal('repair-before-trial')
  return startMoveJob(moveId, {
    kind: 'repair',
    title: `Repair of the ${driveName(target)}`,
    purpose: 'a repair',
    lease: { write: [await leasableDrive(target)] },
    leaves: 'What was written of it is taken back before the next start or repair.',
    run: async () => repairTarget(move, target, name),
    // It is noted where it is made, so that what is cut off behind the last write is known.
    save: async () => {},
  })
}

async function repairTarget(move: Move, target: Drive, name: string) {
  const { id: moveId } = move
  const at = await benchNow()
  const made = move.row.proof?.repairs ?? []
  const [id] = await nextRepairIds(moveId, made, 1)
  const started = trialComputer(move)
  const { id: computerId, name: computer, firmware, running: state } = started
  const reach = provider().reachOf(started)
  // What the page shows of it was worked out with all that it offered beside.
  const beside = [namesOffered(move), tidyingOf(move)].find((names) => names.includes(name)) ?? [name]
  const plan = (await plannedRepairs(move, target, beside)).find((planned) => planned.name === name)
  if (plan?.why) throw new Refusal('repair-not-possible', { why: plan.why })
  if (plan?.changesNothing) throw new Refusal('repair-nothing-to-change')
  if (plan?.setsFirmware && reach.firmware === 'none') throw new Refusal('firmware-by-hand', { computer })
  // A system that runs from the drive would go on with what it knew of it.
  if (state !== 'off') await changeComputer(computerId, { running: 'off' })
  const done = await inThread('makeRepair', {
    ...{ drive: driveBytes(target), name, journal: repairFile(moveId, id) },
    ...{ question: await questionFor(move, target, [name]), stick: stickFor(move, [name]) },
  })
  if (done.firmware && reach.firmware === 'variables') {
    const written = done.firmware
    await onOpened(target, (device) => writeRealFirmware(device, written, firmwareFile(moveId, id)))
  }
  const repair = {
    id,
    at,
    trialAt: move.row.proof?.trials.at(-1)?.at ?? 0,
    driveId: target.id,
    drive: driveName(target),
    name,
    title: done.title,
    changes: [...done.changes],
    files: [...(done.files ?? [])],
    know: [...(done.know ?? [])],
    ...(done.firmware ? { firmware } : {}),
    ...(done.grows ? { grows: done.grows } : {}),
    undone: false,
  }
  await inTransaction(async () => {
    const proof = { trials: move.row.proof?.trials ?? [], repairs: [...made, repair] }
    const line = { text: `repaired: ${repair.title.toLowerCase()}`, tone: 'good' } as const
    await saveStationResults(moveId, { proof }, line)
    if (done.firmware) await changeComputer(computerId, { firmware: done.firmware })
  })
}

/** Takes the last repair back, byte for byte. */
export async function takeRepairBack(moveId: string): Promise<StartedJob> {
  const move = await loadMove(moveId)
  const made = move.row.proof?.repairs ?? []
  const last = made.findLast((r) => !r.undone)
  const target = move.pairs.map((p) => p.target).find((d) => d?.id === last?.driveId)
  if (!last || !target) throw new Refusal('repair-none-to-undo')
  const file = repairFile(moveId, last.id)
  if (!(await runTask('readRepair', { journal: file }))) throw new Refusal('repair-journal-gone')
  return startMoveJob(moveId, {
    kind: 'undo-repair',
    title: `Undoing the repair of the ${driveName(target)}`,
    purpose: 'undoing a repair',
    lease: { write: [await leasableDrive(target)] },
    leaves: 'It is ended before the next start or repair.',
    run: async () => {
      await takeFirmwareBack(firmwareFile(moveId, last.id))
      await inThread('undoDriveRepair', { drive: driveBytes(target), journal: file })
    },
    save: () => keepUndone(move, last),
  })
}

type Repair = NonNullable<Move['row']['proof']>['repairs'][number]

/** Stores that the drive is as it was before a repair, and gives the firmware back what it had. */
async function keepUndone(move: Move, last: Repair): Promise<void> {
  await inTransaction(async () => {
    if (last.firmware) await changeComputer(trialComputer(move).id, { firmware: last.firmware })
    const { proof } = await moveRow(move.id)
    const repairs = (proof?.repairs ?? []).map((r) => (r.id === last.id ? { ...r, undone: true } : r))
    const line = `repair undone: ${last.title.toLowerCase()}`
    await saveStationResults(move.id, { proof: { trials: proof?.trials ?? [], repairs } }, line)
  })
}

/** Ends what a power cut left of a repair: the drive is as it was before. */
export async function settleRepairs(move: Move): Promise<void> {
  const made = move.row.proof?.repairs ?? []
  const target = move.pairs[0].target
  if (!target) return
  let repairs = made
  const keepRepairs = (now: typeof made, line: LogWords) =>
    saveStationResults(move.row.id, { proof: { trials: move.row.proof?.trials ?? [], repairs: (repairs = now) } }, line)
  // Every journal is looked at: one that was cut off is taken back, and one that was written whole while nothing noted
  // it any more is noted now, so that it can be taken back like any other.
  for (const id of await repairIdsOf(move.row.id)) {
    const file = repairFile(move.row.id, id)
    const record = await runTask('readRepair', { journal: file })
    if (record?.state === 'writing') {
      const request = { purpose: 'a repair', write: [await leasableDrive(target)] }
      const order = { drive: driveBytes(target), journal: file }
      await withLease(request, () => inThread('settleDriveRepair', order))
      const undone = repairs.map((r) => (r.id === id ? { ...r, undone: true } : r))
      await keepRepairs(undone, { text: 'a repair that was cut off was undone', tone: 'bad' })
    } else if (record?.state === 'done' && !repairs.some((r) => r.id === id)) {
      const { name, title, changes } = record
      const about = { driveId: target.id, drive: driveName(target), name, title, changes, files: [], know: [] }
      const trialAt = move.row.proof?.trials.at(-1)?.at ?? (await benchNow())
      const line = { text: `repaired: ${title.toLowerCase()}`, tone: 'good' } as const
      await keepRepairs([...repairs, { id, at: await benchNow(), trialAt, ...about, undone: false }], line)
    } else if (record?.state === 'undone') {
      const last = repairs.find((r) => r.id === id && !r.undone)
      if (last) await keepUndone(move, last)
      repairs = repairs.map((r) => (r.id === id ? { ...r, undone: true } : r))
    }
  }
}

/** The new drive of the system, once a trial started with it in the computer, or beside the old drive before that. */
function repairable(move: Move): Drive | undefined {
  const target = move.pairs[0].target
  const computer = trialComputer(move)
  const isIn = target !== undefined && slotOf(move, computer, target) !== undefined
  const { proof } = move.row
  // A copy that has ended beside the old drive has left its own repairs here.
  return isIn && proof && (oldDriveStays(move) || proof.trials.length > 0) ? target : undefined
}

/** The stick that drivers come from, for repairs that bring one in. */
const stickFor = ({ bench }: Move, names: readonly string[]) =>
  names.some((name) => BRINGING.includes(name)) ? stickImage(bench) : undefined

/** The code in front of the first partition as the survey keeps it. */
const keptStartCode = ({ row }: Move) => row.survey?.pairs[0].source.mbr?.startCode

/** What has to be known for these repairs, besides the bytes of the drive. */
async function questionFor(move: Move, target: Drive, names: readonly string[]) {
  const { firmware } = trialComputer(move)
  const kept = keptStartCode(move)
  const layout = move.row.fit?.pairs[0]?.layout
  return {
    // Of a drive that has a system of its own besides, the one that came to it.
    ...(layout?.into ? { system: layout.partitions[0].number } : {}),
    mode: firmware.mode,
    firmware,
    ...(names.includes('boot-entry') ? { seat: await seatOf(move, target) } : {}),
    ...controllerOf(move, target),
    ...cardsOf(move),
    time: fileTime(await benchNow()),
    chance: randomBytes(16),
    moved: movedVolumesOf(move),
    ...(names.includes('card-address') ? await cardOf(move) : {}),
    ...(kept ? { startCode: { first: fromBase64(kept.first), gap: fromBase64(kept.gap) } } : {}),
  }
}

/** Where the new drive sits in the computer, and which partitions the other drives in it have. */
async function seatOf(move: Move, { id, place, ...drive }: Drive): Promise<DriveSeat | undefined> {
  if (place.kind !== 'slot') return undefined
  const opened: OpenDrive[] = []
  try {
    const others = (await attach(move.bench, trialComputer(move), opened)).filter((d) => d.driveId !== id)
    const readings = await Promise.all(others.map(({ device }) => readScheme(device).catch(orUndefined)))
    const beside = readings.flatMap((reading) => reading?.partitions.map((p) => p.guid) ?? [])
    return { slot: place.slot, name: driveName(drive), beside }
  } finally {
    for (const one of opened) await one.close()
  }
}

/** What the old network card had as its address, for the card of a virtual machine. */
async function cardOf(move: Move) {
  const address = await oldAddress(move)
  return address ? { card: { address, interfaceId: INTERFACE_OF_CARD } } : {}
}

/** The controller at which a drive sits: what serves it, and what it says that it is. */
function controllerOf(move: Move, drive: Drive) {
  const slot = slotOf(move, trialComputer(move), drive)
  return { drivers: driversAt(slot, drive), controllerId: slot?.deviceId }
}

function cardsOf(move: Move) {
  const card = knownCard(trialComputer(move))
  return card ? { cards: [card] } : {}
}

type RepairTask = 'makeRepair' | 'undoDriveRepair' | 'settleDriveRepair'

/** A repair is worked out and written off the server's thread. Rejects with Refusal for what the drive does not allow. */
function inThread<N extends RepairTask>(name: N, order: TaskOrder<N>): Promise<TaskResult<N>> {
  return runTask(name, order, { long: true }).catch(asRefusal)
}

function asRefusal(error: unknown): never {
  if (error instanceof CoreError && !(error instanceof HostDiskFull))
    throw new Refusal('repair-not-possible', { why: error.message })
  throw error
}

async function onOpened(target: Drive, work: (device: BlockDevice) => Promise<void>): Promise<void> {
  const opened = await openDrive(driveBytes(target), { writable: false }).catch(asRefusal)
  try {
    await work(opened.device).catch(asRefusal)
  } finally {
    await opened.close()
  }
}
