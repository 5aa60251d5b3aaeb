import { rm } from 'node:fs/promises'
import path from 'node:path'
import { type DriveBytes, openDrive } from '@/outside/open-drive'
import { type FolderBytes, openFolder, openStored, type StoredImage, withStore } from '@/outside/open-medium'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { lostInImage } from '@/core/copy/lost'
import type { BlockDevice } from '@/core/block/device'
import type { IdleKind } from '@/core/copy/idle-kinds'
import { checkRecord, isRecordName, recordName } from '@/core/copy/image-record'
import { planVolumes } from '@/core/copy/plan-volumes'
import { planImage } from '@/core/copy/plan-whole'
import { CoreError, orUndefined } from '@/core/errors'
import { type TargetKind, TARGETS } from '@/core/image'
import type { ImageFolder } from '@/core/image/folder'
import { compareDevices } from '@/core/image/compare'
import { type LostInImage, NO_LOSS } from '@/core/image/lost'
import { touchedBy } from '@/core/image/touched'
import type { MapTaken } from '@/core/image/used'
import type { ImageOnDrive, JobResult } from '@/core/image/views'
import type { Host } from '@/core/things/accessory'
import { diskFormatFor } from '@/core/vm/disk-format'
import type { VirtualMachine } from '@/core/vm/types'
import { surveyDrive } from '@/core/survey/survey'
import { convertFile } from '@/host/convert'
import { HostFolder, lengthsOf } from '@/host/host-folder'
import { openHostImage } from '@/host/images'
import { openPackage, type OpenPackage, removeAside } from '@/host/open-package'
import { PACKAGE_FORMAT, writePackage } from '@/host/package'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'
import { isUnfinishedName, type MadeOf, type Progress, recordIn, stepsOf, writeImageInto } from '@/host/write-image'
import type { TaskControl } from '.'
import { type Subject, withSubject } from './subject'

// Work on images. Paths were checked before. What is stopped or fails leaves no file.

export interface ConvertOrder {
  readonly input: string
  readonly output: string
  readonly to: TargetKind
  readonly within: string
}

/** Writes an image anew, in another form. */
export async function convertImage(
  { input, output, to, within }: ConvertOrder,
  control: TaskControl,
): Promise<JobResult> {
  const { signal } = control
  const onProgress = progressOn(control)
  const written = await convertFile(input, output, {
    ...{ signal, time: Date.now(), to, within, onProgress },
    recorded: true,
  })
  return { kind: 'written', ...written, maps: [] }
}

export interface UnpackOrder {
  readonly file: string
  readonly within: string
  /** A folder for what is packed, which is gone at the end. */
  readonly aside: string
  /** How the names of its images begin. */
  readonly stem: string
  /** What its disks are to be for. */
  readonly host: Pick<Host, 'name' | 'diskFormats'>
}

export interface Unpacked extends Pick<OpenPackage, 'machine'> {
  readonly disks: readonly { readonly name: string; readonly virtualBytes: number; readonly sectorSize: 512 | 4096 }[]
  readonly written: Extract<JobResult, { kind: 'written' }>
}

/** Makes an image of its own of each disk of a package. What does not come to its end leaves none. */
export async function unpackMachine(
  { file, within, aside, stem, host }: UnpackOrder,
  control: TaskControl,
): Promise<Unpacked> {
  const { signal } = control
  const made: string[] = []
  try {
    let bytes = 0
    const onBytes = (more: number) => control.progress({ done: (bytes += more), total: 0 })
    const { machine, assumed, verified, disks } = await openPackage(file, { aside, signal, onBytes })
    const names: Unpacked['disks'][number][] = []
    const sums = { virtualBytes: 0, fileBytes: 0, hostBytes: 0 }
    let lost: LostInImage = NO_LOSS
    let readBack = true
    for (const [i, disk] of disks.entries()) {
      const { format: to } = diskFormatFor(host, await virtualBytesOf(disk))
      const name = `${stem} disk ${i + 1}.${TARGETS[to].extension}`
      const output = path.join(within, name)
      const written = await convertFile(disk, output, {
        ...{ signal, time: Date.now(), to, within: path.dirname(disk), recorded: true },
        onProgress: progressOn(control),
      })
      made.push(output)
      for (const key of ['virtualBytes', 'fileBytes', 'hostBytes'] as const) sums[key] += written[key]
      lost = { sectors: lost.sectors + written.lost.sectors, files: [...lost.files, ...written.lost.files] }
      readBack &&= written.verified
      const { device, close } = await openHostImage(output, { within })
      names.push({ name, virtualBytes: device.size, sectorSize: device.logicalSectorSize })
      await close()
    }
    const notes = [
      ...(verified ? [] : ['It has no manifest, so nothing tells whether it is as it was written.']),
      ...assumed,
    ]
    const written = { kind: 'written' as const, ...sums, lost, maps: [], verified: readBack, notes }
    return { machine, disks: names, written }
  } catch (error) {
    for (const output of made) for (const one of [output, recordName(output)]) await rm(one, { force: true })
    throw error
  } finally {
    await removeAside(aside)
  }
}

async function virtualBytesOf(disk: string): Promise<number> {
  const { device, close } = await openHostImage(disk, { within: path.dirname(disk) })
  await close()
  return device.size
}

export interface PackOrder {
  readonly machine: VirtualMachine
  /** Its disks, in the order of the machine's. */
  readonly disks: readonly DriveBytes[]
  readonly output: string
}

/** Writes a virtual machine with its disks as a package. */
export async function packMachine({ machine, disks, output }: PackOrder, control: TaskControl): Promise<JobResult> {
  const opened: Awaited<ReturnType<typeof openDrive>>[] = []
  try {
    for (const disk of disks) opened.push(await openDrive(disk, { writable: false }))
    const plans = []
    const maps: MapTaken[] = []
    for (const { device } of opened) plans.push(await planImage(device, {}, (map) => maps.push(map)))
    const step = stepsOf(
      plans.reduce((sum, plan) => sum + plan.totalBytes, 0),
      progressOn(control),
    )
    const { files, outcomes } = await writePackage(
      machine,
      plans.map((plan, i) => ({ plan, file: machine.disks[i].file })),
      output,
      {
        format: PACKAGE_FORMAT,
        time: Date.now(),
        checkpoint: () => control.signal.throwIfAborted(),
        onStep: (_disk, one) => step(one),
      },
    )
    return {
      kind: 'written',
      virtualBytes: opened.reduce((sum, { device }) => sum + device.size, 0),
      fileBytes: files.reduce((sum, { bytes }) => sum + bytes, 0),
      hostBytes: (await lengthsOf(output)).hostBytes,
      lost: lostInImage(outcomes.flatMap(({ lost }) => [...lost])),
      maps,
      verified: outcomes.every(({ checkedBytes }) => checkedBytes > 0),
    }
  } finally {
    for (const { close } of opened) await close()
  }
}

export interface CaptureOrder {
  readonly drive: DriveBytes
  /** What the drive's plate says. */
  readonly plate: { readonly name: string; readonly model: string; readonly serial: string }
  /** Where it is made, and under which name. */
  readonly folder: FolderBytes
  readonly name: string
  readonly to: TargetKind
  readonly usedOnly: boolean
  readonly leaveOut: readonly IdleKind[]
  /** Numbers of the partitions that come along; null for the whole drive. */
  readonly volumes: readonly number[] | null
}

/** Writes an image of a drive, of all of it or of what is in use. */
export async function captureDrive(order: CaptureOrder, control: TaskControl): Promise<JobResult> {
  const { drive, plate, to, usedOnly, leaveOut, volumes } = order
  const { device, close } = await openDrive(drive, { writable: false })
  try {
    const how = { how: 'capture', to, stored: !usedOnly, leaveOut, volumes, source: plate } as const
    return await keptIn(order.folder, (folder) => kept(device, folder, order.name, how, control))
  } finally {
    await close()
  }
}

async function keptIn<T>(bytes: FolderBytes, work: (folder: ImageFolder) => Promise<T>): Promise<T> {
  const { folder, close } = await openFolder(bytes)
  try {
    return await work(folder)
  } finally {
    await close()
  }
}

export interface TakeOrder {
  readonly image: StoredImage
  readonly to: TargetKind
  /** Where it is put, under the same name or another. */
  readonly folder: FolderBytes
  readonly name: string
}

/** Writes an image of one store anew in another. */
export async function takeImage({ image, to, folder, name }: TakeOrder, control: TaskControl): Promise<JobResult> {
  const { device, close } = await openStored(image)
  try {
    const source = { name: image.name, model: null, serial: null }
    const how = { how: 'convert', to, stored: true, leaveOut: [], volumes: null, source } as const
    return await keptIn(folder, (into) => kept(device, into, name, how, control))
  } finally {
    await close()
  }
}

/** The images in volumes of a drive, and what is left of those that were not finished. */
export async function imagesInVolumes(
  volumes: readonly { readonly partition: number; readonly folder: FolderBytes }[],
): Promise<ImageOnDrive[]> {
  const found: ImageOnDrive[] = []
  for (const { partition, folder } of volumes) {
    // A directory that does not read is a finding of the survey, and no reason to show nothing of the drive.
    const files = (await withStore(folder, (store) => store.list()).catch(orUndefined)) ?? []
    const names = new Set(files.map((file) => file.name))
    for (const { name, bytes } of files) {
      const recorded = names.has(recordName(name))
      const unfinished = isUnfinishedName(name)
      if (isRecordName(name) || !(recorded || unfinished || IMAGE_EXTENSIONS.test(name))) continue
      found.push({ partition, name, bytes, recorded, unfinished })
    }
  }
  return found.sort((a, b) => a.name.localeCompare(b.name, 'en'))
}

/** Files that are taken for images by their names. */
const IMAGE_EXTENSIONS = new RegExp(
  `\\.(${[...new Set(Object.values(TARGETS).map((t) => t.extension))].join('|')})$`,
  'i',
)

/** Removes an image from a store, with its record. */
export async function removeStored({ name, folder }: StoredImage): Promise<void> {
  await keptIn(folder, async (store) => {
    await store.remove(recordName(name))
    await store.remove(name)
  })
}

export interface CompactOrder {
  readonly file: string
  readonly to: TargetKind
  readonly within: string
}

/** Writes an image anew in its place, without what its systems have freed; it stays as it is until the new one is whole. */
export async function compactImage({ file, to, within }: CompactOrder, control: TaskControl): Promise<JobResult> {
  const image = await openHostImage(file, { within })
  try {
    const source = { name: path.basename(file), model: null, serial: null }
    const how = { how: 'compact', to, stored: false, leaveOut: [], volumes: null, source, overwrite: true } as const
    const beforeTables = async () => {
      if (await image.changed()) throw new CoreError('The image was changed while it was read, so it stays as it is.')
    }
    const folder = new HostFolder(path.dirname(file))
    const result = await kept(image.device, folder, path.basename(file), { ...how, beforeTables }, control)
    return result.kind === 'written' ? { ...result, hostBytesBefore: image.file.hostBytes } : result
  } finally {
    await image.close()
  }
}

interface Keeping {
  readonly how: MadeOf['how']
  readonly to: TargetKind
  readonly stored: boolean
  readonly leaveOut: readonly IdleKind[]
  readonly volumes: readonly number[] | null
  readonly source: Pick<MadeOf['source'], 'name' | 'model' | 'serial'>
  readonly overwrite?: boolean
  readonly beforeTables?: () => Promise<void>
}

/** Writes an image of a device, with its record beside it. */
async function kept(
  device: BlockDevice,
  folder: ImageFolder,
  name: string,
  { how, to, stored, leaveOut, volumes, source, overwrite, beforeTables }: Keeping,
  control: TaskControl,
): Promise<JobResult> {
  const maps: MapTaken[] = []
  const survey = await surveyDrive(device, sha256)
  const { plan, layout } = volumes
    ? await planVolumes(device, survey, volumes, leaveOut)
    : { plan: await planImage(device, { stored, leaveOut }, (map) => maps.push(map)), layout: null }
  const virtualBytes = device.size
  const { fileBytes, hostBytes, lost } = await writeImageInto(folder, name, plan, {
    to,
    time: Date.now(),
    note: name,
    work: '',
    overwrite,
    beforeTables,
    record: {
      how,
      source: { ...source, sizeBytes: virtualBytes, sectorSize: device.logicalSectorSize },
      survey,
      layout,
      read: stored && !volumes ? 'stored' : 'used',
      volumes: volumes && [...volumes],
      leaveOut: [...leaveOut],
    },
    checkpoint: () => control.signal.throwIfAborted(),
    onStep: stepsOf(plan.totalBytes, progressOn(control)),
  })
  const left = plan.partitions.flatMap((p) => [...p.leftOut])
  const leftOut = { files: left.length, bytes: left.reduce((sum, file) => sum + file.bytes, 0) }
  return { kind: 'written', virtualBytes, fileBytes, hostBytes, lost: lostInImage(lost), maps, verified: true, leftOut }
}

/** Holds an image against the record beside it. */
export async function verifyImage(stored: StoredImage, control: TaskControl): Promise<JobResult> {
  const record = await withStore(stored.folder, (folder) => recordIn(folder, stored.name))
  if (!record) throw new CoreError('There is no record beside this image, so there is nothing to hold it against.')
  const image = await openStored({ ...stored, sectorSize: record.image.sectorSize })
  try {
    const check = await checkRecord(image.device, record, blake3, {
      checkpoint: () => control.signal.throwIfAborted(),
      onProgress: (done, total) => control.progress({ done, total }),
    })
    const { equal, checkedBytes, differing, unreadable, strange } = check
    const ranges = [...differing, ...strange].sort((a, b) => a.offset - b.offset)
    const touched = ranges.length > 0 ? await touchedBy(image.device, ranges) : null
    const counts = { differing: differing.length, unreadable: unreadable.length, strange: strange.length }
    return { kind: 'verified', madeAt: record.madeAt, checkedBytes, equal, ...counts, touched }
  } finally {
    await image.close()
  }
}

const progressOn = (control: TaskControl) => (p: Progress) =>
  control.progress({ done: p.doneBytes, total: p.totalBytes })

export interface CompareOrder {
  readonly a: Subject
  readonly b: Subject
}

/** Compares two disks byte by byte, and names the files of the first that a difference lies in. */
export function compareDisks({ a, b }: CompareOrder, control: TaskControl): Promise<JobResult> {
  const { signal } = control
  const onProgress = (done: number, total: number) => control.progress({ done, total })
  return withSubject(a, (left) =>
    withSubject(b, async (right): Promise<JobResult> => {
      const [one, other] = [new ReadAroundDevice(left), new ReadAroundDevice(right)]
      const comparison = await compareDevices(one, other, { signal, onProgress })
      const touched = comparison.ranges.length > 0 ? await touchedBy(one, comparison.ranges) : null
      const unreadable = [one.lostSectors, other.lostSectors] as const
      return { kind: 'compared', comparison, touched, unreadable, sectorSize: one.logicalSectorSize }
    }),
  )
}
