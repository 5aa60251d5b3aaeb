import path from 'node:path'
import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { lostInImage } from '@/core/copy/lost'
import { planImage } from '@/core/copy/plan-whole'
import type { TargetKind } from '@/core/image'
import { compareDevices } from '@/core/image/compare'
import { touchedBy } from '@/core/image/touched'
import type { MapTaken } from '@/core/image/used'
import type { JobResult } from '@/core/image/views'
import { convertFile } from '@/host/convert'
import { type Progress, stepsOf, writeImage } from '@/host/write-image'
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
  const written = await convertFile(input, output, { signal, time: Date.now(), to, within, onProgress })
  return { kind: 'written', ...written, maps: [] }
}

export interface CaptureOrder {
  readonly drive: DriveBytes
  readonly output: string
  readonly to: TargetKind
  readonly usedOnly: boolean
}

/** Writes an image of a drive, of all of it or of what is in use. */
export async function captureDrive(order: CaptureOrder, control: TaskControl): Promise<JobResult> {
  const { drive, output, to, usedOnly } = order
  const { device, close } = await openDrive(drive, { writable: false })
  try {
    const maps: MapTaken[] = []
    const plan = await planImage(device, { stored: !usedOnly }, (map) => maps.push(map))
    const { fileBytes, hostBytes, lost } = await writeImage(plan, output, {
      to,
      time: Date.now(),
      note: path.basename(output),
      work: '',
      checkpoint: () => control.signal.throwIfAborted(),
      onStep: stepsOf(plan.totalBytes, progressOn(control)),
    })
    const virtualBytes = device.size
    return { kind: 'written', virtualBytes, fileBytes, hostBytes, lost: lostInImage(lost), maps, verified: true }
  } finally {
    await close()
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
