import { randomUUID } from 'node:crypto'
import { stat } from 'node:fs/promises'
import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { TARGETS, type TargetKind } from '@/core/image'
import { compareDevices } from '@/core/image/compare'
import { convertDevice, mappedExtents } from '@/core/image/convert'
import { lostOf } from '@/core/image/lost'
import { touchedBy } from '@/core/image/touched'
import { type MapTaken, storedExtents, usedExtentsOf } from '@/core/image/used'
import type { JobResult } from '@/core/image/views'
import { convertFile } from '@/host/convert'
import { createWhole } from '@/host/files'
import { packCluster } from '@/host/packed'
import type { TaskControl } from '.'
import { type Subject, withSubject } from './subject'

// Work on images. Paths were checked before. What is stopped or fails leaves no file.

const optionsOf = (signal: AbortSignal) => ({ signal, time: Date.now(), guid: randomUUID, pack: packCluster })

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
  const onProgress = (p: { doneBytes: number; totalBytes: number }) =>
    control.progress({ done: p.doneBytes, total: p.totalBytes })
  const written = await convertFile(input, output, { ...optionsOf(control.signal), to, within, onProgress })
  return { kind: 'written', ...written, maps: [] }
}

export interface CaptureOrder {
  readonly drive: DriveBytes
  readonly output: string
  readonly to: TargetKind
  readonly usedOnly: boolean
}

/** Writes an image of a drive, of all of it or of what is in use. */
export async function captureDrive(order: CaptureOrder, { signal, progress }: TaskControl): Promise<JobResult> {
  const { drive, output, to, usedOnly } = order
  const { device: medium, close } = await openDrive(drive, { writable: false })
  try {
    const device = new ReadAroundDevice(medium)
    const maps: MapTaken[] = []
    const used = () => usedExtentsOf(device, (map) => maps.push(map))
    const extents = usedOnly ? storedExtents(device, used()) : mappedExtents(device)
    await createWhole(output, (sink) => {
      const writer = TARGETS[to].writer(sink, {
        ...optionsOf(signal),
        virtualBytes: device.size,
        sectorSize: device.logicalSectorSize,
      })
      return convertDevice(device, writer, {
        signal,
        extents,
        onProgress: (p) => progress({ done: p.doneBytes, total: p.totalBytes }),
      })
    })
    const { size, blocks } = await stat(output)
    const lost = await lostOf(device)
    return { kind: 'written', virtualBytes: device.size, fileBytes: size, hostBytes: blocks * 512, lost, maps }
  } finally {
    await close()
  }
}

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
