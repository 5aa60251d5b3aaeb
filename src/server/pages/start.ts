import { createHash } from 'node:crypto'
import * as z from 'zod'
import { fileTime } from '@/core/bytes/file-time'
import { slotAt } from '@/core/things/bench'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { journalsFolder } from '../ground/paths'
import { inBenchQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { listImages } from '../images'
import { startJob, type StartedJob } from '../jobs'
import { runTask } from '../jobs/threads'
import type { AloneOrder } from '../jobs/threads/tasks/start-alone'
import { type Leasable, leasableDrive, leasableImage } from '../leases'
import { reservedDrives } from '../moves/reserved-drives'
import { benchOf, benchState, driveById } from '../world'
import { benchNow } from '../world/clock'
import { driveOfImage } from '../world/image-drives'
import { emulatedView } from './emulated'
import { type LookedAt, LookedAtSchema, subjectOf } from '../world/looked-at'

// The start of a computer with one drive or image alone in it, followed and repaired without a move.

const ModeSchema = z.enum(['uefi', 'bios'])

const StartQuerySchema = z.object({
  /** By this kind of firmware; without, by what the computer that it sits in has, or by what the disk tells. */
  firmware: ModeSchema.optional().catch(undefined),
})

/** What the page of a start shows. Rejects with Refusal for a drive or image that there is not. */
export async function startView(input: unknown, query: unknown) {
  const lookedAt = LookedAtSchema.parse(input)
  const { firmware } = StartQuerySchema.parse(query)
  const about = await aboutOf(lookedAt)
  const found = await runTask('followAlone', await orderOf(lookedAt, about, firmware), { long: true })
  return {
    subject: lookedAt,
    name: about.name,
    serial: about.serial,
    sizeBytes: about.sizeBytes,
    place: about.place,
    /** The computer that it sits in, with its firmware's kind. */
    computer: about.computer ? { name: about.computer.name, mode: about.computer.firmware.mode } : null,
    chosen: firmware ?? null,
    ...found,
    emulated: await emulatedView(lookedAt),
    /** Why repairs are only shown. */
    whyShownOnly: (await whyNotRepaired(lookedAt)) ?? null,
  }
}

interface About {
  readonly name: string
  readonly serial: string
  readonly sizeBytes: number
  readonly place: string
  readonly slot: string
  readonly computer?: Computer
  readonly drivers?: readonly string[]
}

async function aboutOf(lookedAt: LookedAt): Promise<About> {
  if (lookedAt.kind === 'drives') return aboutDrive(await driveById(lookedAt.id))
  const image = (await listImages()).find((i) => i.name === lookedAt.id)
  if (!image?.opened) throw new Refusal('image-unknown', { name: lookedAt.id })
  const { format, virtualBytes } = image.opened
  return {
    name: image.name,
    serial: format,
    sizeBytes: virtualBytes,
    place: 'in the images folder',
    slot: 'the only slot',
  }
}

async function aboutDrive(drive: Drive): Promise<About> {
  const bench = await benchState((await benchOf(drive.id)).benchId)
  const { place } = drive
  const computer = place.kind === 'slot' ? bench.computers.find((c) => c.id === place.computerId) : undefined
  const base = { name: driveName(drive), serial: drive.serial, sizeBytes: drive.sizeBytes }
  if (place.kind !== 'slot' || !computer)
    return { ...base, place: 'taken as the only drive of a computer', slot: 'the only slot' }
  return {
    ...base,
    ...{ place: `${computer.name}, ${place.slot}`, slot: place.slot, computer },
    drivers: driversAt(slotAt(bench, place), drive),
  }
}

async function orderOf(lookedAt: LookedAt, about: About, mode: 'uefi' | 'bios' | undefined): Promise<AloneOrder> {
  const { name, slot, computer, drivers } = about
  return {
    ...{ subject: await subjectOf(lookedAt), name, slot, drivers, mode, firmware: computer?.firmware },
    time: fileTime(await benchNow()),
    journals: { folder: journalsFolder(), name: journalName(lookedAt) },
  }
}

/** Names of images hold what no file name of ours does. */
function journalName({ kind, id }: LookedAt): string {
  return `repair-alone-${createHash('sha256').update(`${kind}/${id}`).digest('hex').slice(0, 24)}`
}

/** Why a drive or an image is not repaired here, as a sentence; undefined where it can be. */
async function whyNotRepaired({ kind, id }: LookedAt): Promise<string | undefined> {
  if (kind === 'images') {
    const standing = await driveOfImage(id)
    if (standing) return `It stands for the ${driveName(standing)} on the bench. Repair that.`
    const images = await listImages()
    const image = images.find((i) => i.name === id)
    if (image?.opened && image.opened.kind !== 'raw')
      return `Only a raw image is written in its place, and this one is ${image.opened.format}. Convert it to raw, and repair that.`
    const child = images.find((i) => i.opened?.parent === id)
    return child && `${child.name} builds on it and would change with it.`
  }
  const drive = await driveById(id)
  const { benchId } = await benchOf(id)
  const bench = await benchState(benchId)
  const reserved = (await reservedDrives(bench, benchId, undefined)).get(id)
  if (reserved) return reserved
  const { place } = drive
  const computer = place.kind === 'slot' ? bench.computers.find((c) => c.id === place.computerId) : undefined
  if (computer && computer.running === 'system')
    return `The ${computer.name} runs from it. Shut it down on the bench first.`
  if (drive.image !== null) {
    const image = (await listImages()).find((i) => i.name === drive.image)
    if (image?.opened && image.opened.kind !== 'raw')
      return `Its bytes are an image of the form ${image.opened.format}, which is only read. Convert it to raw, and repair that.`
  }
  return undefined
}

const RepairSchema = z.object({
  subject: LookedAtSchema,
  firmware: ModeSchema.nullable().default(null),
  repair: z.string().min(1).max(60),
})

/** Makes a repair on a drive or an image that is nobody's way back. Rejects with Refusal, nothing written. */
export async function repairSubject(input: unknown): Promise<StartedJob> {
  const { subject, firmware, repair } = RepairSchema.parse(input)
  // No move takes it between the look and the lease.
  return inBenchQueue(() => startRepair(subject, firmware, repair))
}

async function startRepair(subject: LookedAt, firmware: 'uefi' | 'bios' | null, repair: string): Promise<StartedJob> {
  const { about, write } = await writableOf(subject)
  const order = await orderOf(subject, about, firmware ?? undefined)
  return startJob({
    kind: 'repair',
    title: `Repair of ${about.name}`,
    purpose: 'a repair',
    lease: { write: [write] },
    leaves: 'What was written of it is taken back before the next repair, or when you undo it.',
    // It is short, and is never ended from outside.
    run: () => runTask('repairAlone', { ...order, repair }, { long: true, stopsItself: true }),
  })
}

const UndoSchema = z.object({ subject: LookedAtSchema })

/** Takes the last repair of a drive or an image back, byte for byte. Rejects with Refusal. */
export async function undoSubjectRepair(input: unknown): Promise<StartedJob> {
  const { subject } = UndoSchema.parse(input)
  return inBenchQueue(() => startUndo(subject))
}

async function startUndo(subject: LookedAt): Promise<StartedJob> {
  const { about, write } = await writableOf(subject)
  const order = await orderOf(subject, about, undefined)
  return startJob({
    kind: 'undo-repair',
    title: `Undoing the repair of ${about.name}`,
    purpose: 'undoing a repair',
    lease: { write: [write] },
    leaves: 'It is ended before the next repair, or when you undo it again.',
    run: () => runTask('undoAlone', order, { long: true, stopsItself: true }),
  })
}

async function writableOf(subject: LookedAt): Promise<{ about: About; write: Leasable }> {
  const about = await aboutOf(subject)
  const why = await whyNotRepaired(subject)
  if (why) throw new Refusal('repair-shown-only', { why })
  if (subject.kind === 'drives') return { about, write: await leasableDrive(await driveById(subject.id)) }
  const opened = await subjectOf(subject)
  if (opened.kind !== 'image') throw new Refusal('image-unknown', { name: subject.id })
  return { about, write: await leasableImage(opened.file, subject.id) }
}
