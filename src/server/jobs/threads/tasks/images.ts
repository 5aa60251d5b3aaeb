import { rm } from 'node:fs/promises'
import path from 'node:path'
import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { lostInImage } from '@/core/copy/lost'
import type { BlockDevice } from '@/core/block/device'
import type { IdleKind } from '@/core/copy/idle-kinds'
import { checkRecord, recordName } from '@/core/copy/image-record'
import { planImage } from '@/core/copy/plan-whole'
import { CoreError } from '@/core/errors'
import type { TargetKind } from '@/core/image'
import { compareDevices } from '@/core/image/compare'
import { type LostInImage, NO_LOSS } from '@/core/image/lost'
import { touchedBy } from '@/core/image/touched'
import type { MapTaken } from '@/core/image/used'
import type { JobResult } from '@/core/image/views'
import { surveyDrive } from '@/core/survey/survey'
import { convertFile } from '@/host/convert'
import { openHostImage } from '@/host/images'
import { openPackage, type OpenPackage, removeAside } from '@/host/open-package'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'
import { type MadeOf, type Progress, recordOf, stepsOf, writeImage } from '@/host/write-image'
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
}

export interface Unpacked extends Pick<OpenPackage, 'machine' | 'assumed' | 'verified'> {
  readonly disks: readonly { readonly name: string; readonly virtualBytes: number; readonly sectorSize: 512 | 4096 }[]
  readonly written: Extract<JobResult, { kind: 'written' }>
}

/** Makes an image of its own of each disk of a package. What does not come to its end leaves none. */
export async function unpackMachine(
  { file, within, aside, stem }: UnpackOrder,
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
      const name = `${stem} disk ${i + 1}.vhdx`
      const output = path.join(within, name)
      const written = await convertFile(disk, output, {
        ...{ signal, time: Date.now(), to: 'vhdx', within: path.dirname(disk), recorded: true },
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
    const written = { kind: 'written' as const, ...sums, lost, maps: [], verified: readBack }
    return { machine, assumed, verified, disks: names, written }
  } catch (error) {
    for (const output of made) for (const one of [output, recordName(output)]) await rm(one, { force: true })
    throw error
  } finally {
    await removeAside(aside)
  }
}

export interface CaptureOrder {
  readonly drive: DriveBytes
  /** What the drive's plate says. */
  readonly plate: { readonly name: string; readonly model: string; readonly serial: string }
  readonly output: string
  readonly to: TargetKind
  readonly usedOnly: boolean
  readonly leaveOut: readonly IdleKind[]
}

/** Writes an image of a drive, of all of it or of what is in use. */
export async function captureDrive(order: CaptureOrder, control: TaskControl): Promise<JobResult> {
  const { drive, plate, output, to, usedOnly, leaveOut } = order
  const { device, close } = await openDrive(drive, { writable: false })
  try {
    return await kept(device, output, { how: 'capture', to, stored: !usedOnly, leaveOut, source: plate }, control)
  } finally {
    await close()
  }
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
    const how = { how: 'compact', to, stored: false, leaveOut: [], source, overwrite: true } as const
    const beforeTables = async () => {
      if (await image.changed()) throw new CoreError('The image was changed while it was read, so it stays as it is.')
    }
    const result = await kept(image.device, file, { ...how, beforeTables }, control)
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
  readonly source: Pick<MadeOf['source'], 'name' | 'model' | 'serial'>
  readonly overwrite?: boolean
  readonly beforeTables?: () => Promise<void>
}

/** Writes an image of a device, with its record beside it. */
async function kept(
  device: BlockDevice,
  output: string,
  { how, to, stored, leaveOut, source, overwrite, beforeTables }: Keeping,
  control: TaskControl,
): Promise<JobResult> {
  const maps: MapTaken[] = []
  const survey = await surveyDrive(device, sha256)
  const plan = await planImage(device, { stored, leaveOut }, (map) => maps.push(map))
  const virtualBytes = device.size
  const { fileBytes, hostBytes, lost } = await writeImage(plan, output, {
    to,
    time: Date.now(),
    note: path.basename(output),
    work: '',
    overwrite,
    beforeTables,
    record: {
      how,
      source: { ...source, sizeBytes: virtualBytes, sectorSize: device.logicalSectorSize },
      survey,
      layout: null,
      read: stored ? 'stored' : 'used',
      volumes: null,
      leaveOut: [...leaveOut],
    },
    checkpoint: () => control.signal.throwIfAborted(),
    onStep: stepsOf(plan.totalBytes, progressOn(control)),
  })
  const left = plan.partitions.flatMap((p) => [...p.leftOut])
  const leftOut = { files: left.length, bytes: left.reduce((sum, file) => sum + file.bytes, 0) }
  return { kind: 'written', virtualBytes, fileBytes, hostBytes, lost: lostInImage(lost), maps, verified: true, leftOut }
}

export interface VerifyOrder {
  readonly file: string
  readonly within: string
}

/** Holds an image against the record beside it. */
export async function verifyImage({ file, within }: VerifyOrder, control: TaskControl): Promise<JobResult> {
  const record = await recordOf(file)
  if (!record) throw new CoreError('There is no record beside this image, so there is nothing to hold it against.')
  const image = await openHostImage(file, { within, sectorSize: record.image.sectorSize })
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
