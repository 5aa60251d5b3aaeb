import { stat } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { IDLE_KINDS } from '@/core/copy/idle-kinds'
import { TARGET_KINDS, type TargetKind, TARGETS } from '@/core/image'
import type { JobKind, JobView } from '@/core/job'
import { driveName } from '@/core/things/drive'
import { imagesFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusals'
import { singleton } from '../../ground/singleton'
import { listImages } from '../../images'
import { freeName, imagePath, ImageNameSchema, newImagePath } from '../../images/names'
import { type JobOrder, listJobs, runningJobs, startJob, type StartedJob } from '../../jobs'
import { runTask } from '../../jobs/threads'
import type { ImageSummary, JobResult } from '@/core/image/views'
import { recordOf } from '@/host/write-image'
import { fileKey, leasableDrive, leasableImage } from '../../leases'
import { driveBytes, driveById } from '../../world'
import { refuseRestedOn } from './remove'
import { imagesFolderBytes, type StoreChoice, StoreSchema, volumeStore, volumeToWrite } from './on-drives'
import { packOf } from './pack'
import { checkRoom, imageJob } from './image-job'
import { isPackage, unpackOf } from './unpack'
import { type LookedAt, LookedAtSchema, subjectOf } from '../../world/looked-at'

const KINDS: readonly JobKind[] = ['convert', 'capture', 'compare', 'verify', 'compact']
const MOST_AT_ONCE = 2

const To = z.enum(TARGET_KINDS)
export const JobRequestSchema = z.discriminatedUnion('kind', [
  /** An image of a drive's volume, written anew into the images folder. */
  z.object({ kind: z.literal('take'), input: ImageNameSchema, from: StoreSchema.unwrap() }),
  z.object({ kind: z.literal('convert'), input: ImageNameSchema, output: ImageNameSchema, to: To }),
  z.object({
    kind: z.literal('capture'),
    driveId: z.string().max(60),
    output: ImageNameSchema,
    to: To,
    usedOnly: z.boolean(),
    leaveOut: z.array(z.enum(IDLE_KINDS)).max(IDLE_KINDS.length).default([]),
    /** Numbers of the partitions that come along; null for all. */
    volumes: z.array(z.number().int().positive()).min(1).max(128).nullable().default(null),
    store: StoreSchema.default(null),
  }),
  z.object({ kind: z.literal('compare'), a: LookedAtSchema, b: LookedAtSchema }),
  /** A package of a virtual machine, whose disks become images. */
  z.object({ kind: z.literal('unpack'), input: ImageNameSchema }),
  /** A virtual machine of the bench, as a package of one file. */
  z.object({
    kind: z.literal('pack'),
    computerId: z.string().min(1).max(60),
    output: ImageNameSchema.refine((name) => /\.ova$/i.test(name), { message: 'A package of one file ends in .ova' }),
  }),
  z.object({ kind: z.literal('verify'), input: ImageNameSchema, store: StoreSchema.default(null) }),
  z.object({ kind: z.literal('compact'), input: ImageNameSchema }),
])

/** Work on images, the newest first. */
export function listImageJobs(): Promise<JobView[]> {
  return listJobs(KINDS)
}

/** How many were let in and are not among those that run yet. */
const starting = () => singleton('image-jobs-starting', () => ({ count: 0 }))

/** Starts work on images. Rejects with Refusal, nothing written, when it cannot be started. */
export async function startImageJob(input: unknown): Promise<StartedJob> {
  const request = JobRequestSchema.parse(input)
  // Those that are being started count before the first of them waits for anything.
  const busy = runningJobs().filter((job) => KINDS.includes(job.kind)).length + starting().count
  if (busy >= MOST_AT_ONCE) throw new Refusal('image-jobs-full')
  starting().count++
  try {
    return await startJob(await orderOf(request))
  } finally {
    starting().count--
  }
}

/** What is to be run, what it is called, and what it reads and writes. */
async function orderOf(request: z.infer<typeof JobRequestSchema>): Promise<JobOrder<JobResult>> {
  const within = imagesFolder()
  if (request.kind === 'compare') {
    if (request.a.kind === request.b.kind && request.a.id === request.b.id) throw new Refusal('disk-with-itself')
    const [a, b] = [await comparedOf(request.a), await comparedOf(request.b)]
    // An image and the drive that it stands for lie in the same files.
    const filesOf = ({ leasable }: typeof a) => leasable.keys.filter((key) => !key.startsWith('drive ')).join()
    if (filesOf(a) === filesOf(b)) throw new Refusal('disk-with-itself')
    const order = { a: a.subject, b: b.subject }
    const about = { title: `${a.name} compared with ${b.name}`, read: [a.leasable, b.leasable] }
    return imageJob('compare', about, (options) => runTask('compareDisks', order, options))
  }
  if (request.kind === 'verify' && request.store) return verifyOnDrive(request.input, request.store)
  if (request.kind === 'verify' || request.kind === 'compact') return orderInPlace(request.kind, request.input)
  if (request.kind === 'capture') return captureOf(request)
  if (request.kind === 'take') return takeOf(request)
  if (request.kind === 'pack') return packOf(request)
  if (request.kind === 'unpack') {
    const input = await imagePath(request.input)
    if (!isPackage(request.input)) throw new Refusal('image-no-package', { name: request.input })
    await checkRoom(2 * (await stat(input)).size)
    const about = { title: `${request.input} to a virtual machine`, read: [await leasableImage(input, request.input)] }
    return imageJob('convert', about, await unpackOf(input, request.input))
  }
  const { to } = request
  const output = await newImagePath(request.output)
  const input = await imagePath(request.input)
  const known = (await listImages()).find((image) => image.name === request.input)
  await checkRoom(to === 'vhd-fixed' ? 0 : (known?.hostBytes ?? 0))
  const read = [await leasableImage(input, request.input)]
  const title = `${request.input} to ${request.output}`
  return imageJob('convert', { title, read, output }, (options) =>
    runTask('convertImage', { input, output, to, within }, options),
  )
}

/** An image of a drive, in the images folder or on another drive. */
async function captureOf(request: Extract<z.infer<typeof JobRequestSchema>, { kind: 'capture' }>) {
  const { to, usedOnly, leaveOut, volumes, store, output: name } = request
  const drive = await driveById(request.driveId)
  const plate = { name: driveName(drive), model: drive.model, serial: drive.serial }
  const order = { drive: driveBytes(drive), plate, name, to, usedOnly, leaveOut, volumes }
  const read = [await leasableDrive(drive)]
  if (!store) {
    const output = await newImagePath(name)
    await checkRoom(0)
    return imageJob('capture', { title: `${driveName(drive)} to ${name}`, read, output }, (options) =>
      runTask('captureDrive', { ...order, folder: imagesFolderBytes() }, options),
    )
  }
  if (store.driveId === drive.id) throw new Refusal('store-is-source', { drive: driveName(drive) })
  const { drive: under, folder, freeBytes } = await volumeToWrite(store)
  if (to === 'vhd-fixed' && drive.sizeBytes > freeBytes)
    throw new Refusal('store-full', { drive: driveName(under), freeBytes, neededBytes: drive.sizeBytes })
  const title = `${driveName(drive)} to ${name} on the ${driveName(under)}`
  const job = imageJob('capture', { title, read }, (options) => runTask('captureDrive', { ...order, folder }, options))
  const leaves = `What was begun of it was removed from the ${driveName(under)}; if it could not be, the drive’s page shows it.`
  return { ...job, leaves, lease: { read, write: [await leasableDrive(under)] } }
}

/** An image of a drive's volume, written anew into the images folder as a VHDX, which every reader here knows. */
async function takeOf({ input, from }: Extract<z.infer<typeof JobRequestSchema>, { kind: 'take' }>) {
  const { drive, folder } = await volumeStore(from)
  await checkRoom(0)
  const name = await freeName(`${path.parse(input).name}.${TARGETS.vhdx.extension}`)
  const order = { image: { name: input, folder }, to: 'vhdx', folder: imagesFolderBytes(), name } as const
  const about = { title: `${input} on the ${driveName(drive)} to ${name}`, read: [await leasableDrive(drive)] }
  return imageJob('convert', { ...about, output: await newImagePath(name) }, (options) =>
    runTask('takeImage', order, options),
  )
}

async function verifyOnDrive(name: string, store: NonNullable<StoreChoice>) {
  const { drive, folder } = await volumeStore(store)
  const title = `${name} on the ${driveName(drive)} held against its record`
  return imageJob('verify', { title, read: [await leasableDrive(drive)] }, (options) =>
    runTask('verifyImage', { name, folder }, options),
  )
}

/** Work on an image that stays under its name. */
async function orderInPlace(kind: 'verify' | 'compact', name: string): Promise<JobOrder<JobResult>> {
  const within = imagesFolder()
  const file = await imagePath(name)
  const known = (await listImages()).find((image) => image.name === name)
  if (!known?.opened) throw new Refusal('image-not-opened', { why: known?.sentence ?? 'It is packed.' })
  const image = await leasableImage(file, name)
  if (kind === 'verify') {
    if (!known.recorded) throw new Refusal('image-no-record', { name })
    return imageJob('verify', { title: `${name} held against its record`, read: [image] }, (options) =>
      runTask('verifyImage', { name: path.basename(file), folder: imagesFolderBytes() }, options),
    )
  }
  await refuseRestedOn(name, fileKey(file))
  // While the new one is made the old one is there too.
  await checkRoom(Math.min(known.hostBytes, known.opened.usedBytes))
  const to = (await recordOf(file).catch(() => undefined))?.image.format ?? sameFormat(known.opened)
  const order: JobOrder<JobResult> = imageJob('compact', { title: `${name} compacted`, read: [] }, (options) =>
    runTask('compactImage', { file, to, within }, options),
  )
  return { ...order, lease: { write: [image] }, leaves: 'The image is as it was.' }
}

/** The format in which an image is written that takes the least and stays what it is. */
function sameFormat({ kind, format }: NonNullable<ImageSummary['opened']>): TargetKind {
  if (kind === 'vmdk') return format.includes('stream') ? 'vmdk-stream' : 'vmdk'
  return kind
}

async function comparedOf(lookedAt: LookedAt) {
  const subject = await subjectOf(lookedAt)
  if (subject.kind === 'image')
    return { subject, name: lookedAt.id, leasable: await leasableImage(subject.file, lookedAt.id) }
  const drive = await driveById(lookedAt.id)
  return { subject, name: driveName(drive), leasable: await leasableDrive(drive) }
}
