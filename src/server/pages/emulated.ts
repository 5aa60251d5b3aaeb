import path from 'node:path'
import * as z from 'zod'
import { CoreError } from '@/core/errors'
import { driveName } from '@/core/things/drive'
import { type Emulator, type EmulatedOrder, EmulatedComputer } from '@/host/emulator'
import { openHostImage } from '@/host/images'
import { driveBytes } from '../ground/drive-files'
import { publish } from '../ground/events'
import { imagesFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { imagePath } from '../images/names'
import { startJob } from '../jobs'
import { TaskStopped } from '../jobs/threads'
import { leasableDrive, leasableImage } from '../leases'
import { inTransaction } from '../database/transaction'
import { moveClaims } from '../moves/claims'
import { note } from '../moves/logbook'
import { benchOf, driveById } from '../world'
import { emulatorHere } from '../world/emulator'
import { type LookedAt, LookedAtSchema } from '../world/looked-at'

// A disk started in an emulated computer: over an overlay, without network, with its screen on the page.

/** Each takes memory and a core. */
const MOST = 2

interface Running {
  readonly key: string
  readonly jobId: string
  readonly computer: EmulatedComputer
}

const running = () => singleton('emulated', () => new Map<string, Running>())
/** Computers that are on their way up. */
const comingUp = () => singleton('emulated-coming-up', () => new Set<symbol>())
const keyOf = ({ kind, id }: LookedAt) => `${kind}/${id}`

/** What is shown of it with a disk: null where there is no emulator, or the disk is not one that it reads. */
export async function emulatedView(lookedAt: LookedAt) {
  const found = await emulatorHere()
  if (!found || (lookedAt.kind === 'drives' && (await driveById(lookedAt.id)).borrowed)) return null
  const now = [...running().values()].find((one) => one.key === keyOf(lookedAt))
  return { jobId: now?.jobId ?? null, uefi: found.uefi !== undefined, hasMove: (await movesOf(lookedAt)).length > 0 }
}

const EmulateSchema = z.object({ subject: LookedAtSchema, firmware: z.enum(['uefi', 'bios']) })

/**
 * Starts a drive or an image in an emulated computer, which runs until it is stopped. Nothing is written to the disk. Returns
 * the id of its job once it is there. Rejects with Refusal or CoreError.
 */
export async function startEmulated(input: unknown): Promise<string> {
  const { subject, firmware } = EmulateSchema.parse(input)
  const found = await emulatorHere()
  if (!found) throw new Refusal('emulator-missing')
  const { name, disk, leasable } = await subjectOf(subject)
  if (running().size + comingUp().size >= MOST) throw new Refusal('emulator-busy', { most: MOST })
  const one = Symbol(name)
  comingUp().add(one)
  let isUp = () => {}
  const up = new Promise<undefined>((resolve) => (isUp = () => resolve(undefined)))
  const { id, ended } = await startJob({
    kind: 'emulate',
    title: `Emulated start of the ${name}`,
    purpose: 'an emulated start',
    lease: { read: [leasable] },
    stoppable: true,
    leaves: 'Nothing was written to the disk.',
    run: ({ id: jobId, signal }) =>
      runUntilStopped(found, { ...disk, firmware }, { key: keyOf(subject), jobId, signal, isUp }),
  }).catch((error: unknown) => {
    comingUp().delete(one)
    throw error
  })
  const end = await Promise.race([up, ended])
  comingUp().delete(one)
  if (end) throw new CoreError(end.message ?? 'The emulated computer has ended at once.')
  return id
}

async function runUntilStopped(
  found: Emulator,
  order: EmulatedOrder,
  { key, jobId, signal, isUp }: { key: string; jobId: string; signal: AbortSignal; isUp: () => void },
): Promise<void> {
  const computer = await EmulatedComputer.start(found, order)
  running().set(jobId, { key, jobId, computer })
  publish({ type: 'changed', moveId: null })
  isUp()
  try {
    const stopped = new Promise<'stopped'>((resolve) => {
      if (signal.aborted) resolve('stopped')
      signal.addEventListener('abort', () => resolve('stopped'))
    })
    if ((await Promise.race([computer.ended, stopped])) === 'stopped') throw new TaskStopped()
  } finally {
    running().delete(jobId)
    await computer.stop()
  }
}

/** How the disk is given to the emulator. */
async function subjectOf(subject: LookedAt) {
  if (subject.kind === 'images') {
    const file = await imagePath(subject.id)
    const { format, sectorSize } = await formatOf(file)
    const disk = { disk: { file, format }, controller: 'sata' as const, logicalSectorSize: sectorSize }
    return { name: `image ${subject.id}`, disk, leasable: await leasableImage(file, subject.id) }
  }
  const drive = await driveById(subject.id)
  const { by, file, device: seen } = driveBytes(drive)
  if (by === 'network') throw new Refusal('emulator-lent', { drive: driveName(drive) })
  const format = by === 'image' ? (await formatOf(file)).format : ('raw' as const)
  return {
    name: driveName(drive),
    disk: {
      ...{ disk: { file, format, seen }, logicalSectorSize: drive.logicalSectorSize },
      controller: drive.protocol === 'PCIe' ? ('nvme' as const) : ('sata' as const),
    },
    leasable: await leasableDrive(drive),
  }
}

const FORMATS: Readonly<Record<string, EmulatedOrder['disk']['format']>> = {
  ...{ raw: 'raw', vhd: 'vpc', vhdx: 'vhdx', qcow2: 'qcow2', vmdk: 'vmdk' },
}

/** What an image is read as by the emulator. It is opened here first, so that it builds on nothing outside of its folder. */
async function formatOf(file: string) {
  const image = await openHostImage(file, { within: imagesFolder() })
  try {
    const format = FORMATS[image.kind]
    if (!format) throw new Refusal('emulator-format', { image: path.basename(file) })
    return { format, sectorSize: image.device.logicalSectorSize }
  } finally {
    await image.close()
  }
}

const runningJob = (jobId: string): Running => {
  const found = running().get(jobId)
  if (!found) throw new Refusal('job-not-running')
  return found
}

/** What the screen of an emulated computer shows now, as PNG. Rejects with Refusal where it is not running. */
export const emulatedScreen = (jobId: string): Promise<Uint8Array> => runningJob(jobId).computer.screen()

/** What it last said on its serial line. */
export const emulatedSerial = (jobId: string): Promise<string> => runningJob(jobId).computer.serial()

const VerdictSchema = z.object({ subject: LookedAtSchema, came: z.boolean() })

/** Notes what a person saw of an emulated start in the logbooks of the moves that the drive is of. */
export async function tellEmulated(input: unknown): Promise<void> {
  const { subject, came } = VerdictSchema.parse(input)
  const moves = await movesOf(subject)
  if (moves.length === 0) throw new Refusal('emulated-of-no-move')
  const name = driveName(await driveById(subject.id))
  const text = `seen in an emulated computer: the ${name} ${came ? 'starts' : 'does not start'}`
  await inTransaction(async () => {
    for (const id of moves) await note(id, text, came ? 'good' : 'bad')
  })
}

async function movesOf({ kind, id }: LookedAt): Promise<string[]> {
  if (kind === 'images') return []
  const claims = await moveClaims((await benchOf(id)).benchId)
  return claims
    .filter((c) => !c.handedOver && c.pairs.some((p) => [p.sourceId, p.targetId].includes(id)))
    .map((c) => c.id)
}
