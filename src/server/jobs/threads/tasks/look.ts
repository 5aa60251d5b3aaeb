import { LRUCache } from 'lru-cache'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import type { DirectoryEntry, FileSystem } from '@/core/filesystem'
import { openPartition } from '@/core/survey/open-partition'
import { sectorsWorthALook, viewSector } from '@/core/survey/structures'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/host/sha256'
import { type Subject, withSubject } from './subject'

/** Surveys of this thread by stamp, for what is looked at sector after sector. */
const surveys = new LRUCache<string, DriveSurvey>({ max: 6 })

/** One sector with its structures, and the sectors that are worth a look; for one that there is not, only which is the last. */
export function readSector({ subject, lba }: { readonly subject: Subject; readonly lba: number }) {
  return withSubject(subject, async (device, { stamp }) => {
    const last = device.size / device.logicalSectorSize - 1
    if (!Number.isInteger(lba) || lba < 0 || lba > last) return { last }
    const survey = surveys.get(stamp) ?? (await surveyDrive(device, sha256))
    surveys.set(stamp, survey)
    const view = await viewSector(device, lba, survey)
    return {
      last,
      lba,
      offsetBytes: view.offsetBytes,
      bytes: Buffer.from(view.bytes).toString('base64'),
      structures: view.structures,
      places: sectorsWorthALook(survey),
    }
  })
}

export interface VolumeOrder {
  readonly subject: Subject
  readonly partition: number
  readonly path: string
}

/** A folder of a volume, folders first. */
export function listFolder(order: VolumeOrder): Promise<DirectoryEntry[]> {
  return withVolume(order, async (volume) => {
    const entries = await volume.list(order.path)
    return entries.sort(
      (a, b) => Number(b.kind === 'directory') - Number(a.kind === 'directory') || a.name.localeCompare(b.name, 'en'),
    )
  })
}

/** A file that reads; undefined where there is none. What cannot be read is refused here, before the first byte goes out. */
export function statFile(order: VolumeOrder): Promise<DirectoryEntry | undefined> {
  return withVolume(order, async (volume) => {
    const found = await volume.stat(order.path)
    if (found?.kind !== 'file') return undefined
    await volume.readFile(order.path, 0, 1)
    return found
  })
}

/** Bytes of a file, fewer at its end. */
export function readFilePart(order: VolumeOrder & { readonly offset: number; readonly length: number }) {
  return withVolume(order, (volume) => volume.readFile(order.path, order.offset, order.length))
}

/** The same where the medium has faults: zeros stand for the sectors that do not read, and how many there are is told. */
export function readAround({
  subject,
  partition,
  path,
  offset,
  length,
}: VolumeOrder & { readonly offset: number; readonly length: number }) {
  return withSubject(subject, async (medium) => {
    const device = new ReadAroundDevice(medium)
    const volume = await openPartition(device, partition)
    // What the volume itself lacks by now is not the file's.
    const before = device.lostSectors
    const bytes = await volume.readFile(path, offset, length)
    return { bytes, lostSectors: device.lostSectors - before }
  })
}

function withVolume<T>({ subject, partition }: VolumeOrder, work: (volume: FileSystem) => Promise<T>): Promise<T> {
  return withSubject(subject, async (device) => work(await openPartition(device, partition)))
}
