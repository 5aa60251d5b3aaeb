import { z } from 'zod'
import type { BlockDevice } from '@/core/block/device'
import type { DirectoryEntry, FileSystem } from '@/core/filesystem'
import type { Finding } from '@/core/findings'
import { openPartition } from '@/core/survey/open-partition'
import { sectorsWorthALook, viewSector } from '@/core/survey/structures'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/host/sha256'
import { Refusal } from '../ground/refusal'
import { withImage } from '../images'
import { driveById, withDrive } from '../world'

/** What is looked at: a drive of the bench, or an image. */
export const SubjectSchema = z.object({ kind: z.enum(['drives', 'images']), id: z.string().min(1).max(180) })
export type Subject = z.infer<typeof SubjectSchema>

/** Opens what is looked at for reading, hands it to `work` and closes it. */
async function withSubject<T>(
  { kind, id }: Subject,
  work: (device: BlockDevice, findings: readonly Finding[]) => Promise<T>,
): Promise<T> {
  if (kind === 'images') {
    return withImage(id, async (image) => {
      const result = await work(image.device, image.findings)
      if (await image.changed()) throw new Refusal(`${id} was changed while it was read. Read it again.`)
      return result
    })
  }
  return withDrive(await driveById(id), (device) => work(device, []))
}

/** The survey of it, what its image format tells first. */
export async function surveySubject(subject: Subject): Promise<DriveSurvey> {
  return withSubject(subject, async (device, findings) => {
    const survey = await surveyDrive(device, sha256)
    return { ...survey, findings: [...findings, ...survey.findings] }
  })
}

/** One sector with its structures, and the sectors that are worth a look. */
export async function sectorOf(subject: Subject, lba: number) {
  return withSubject(subject, async (device) => {
    const last = device.size / device.logicalSectorSize - 1
    if (!Number.isInteger(lba) || lba < 0 || lba > last) {
      throw new Refusal(`The drive has sectors 0 to ${last}; there is no sector ${lba}.`, 400)
    }
    const survey = await surveyDrive(device, sha256)
    const view = await viewSector(device, lba, survey)
    return {
      lba,
      offsetBytes: view.offsetBytes,
      bytes: Buffer.from(view.bytes).toString('base64'),
      structures: view.structures,
      places: sectorsWorthALook(survey),
    }
  })
}

/** A folder of a volume. */
export async function folderOf(subject: Subject, partition: number, path: string): Promise<DirectoryEntry[]> {
  return withVolume(subject, partition, async (volume) => {
    const entries = await volume.list(path)
    return entries.sort(
      (a, b) => Number(b.kind === 'directory') - Number(a.kind === 'directory') || a.name.localeCompare(b.name, 'en'),
    )
  })
}

const PIECE = 1024 * 1024

/** A file of a volume as a stream of its bytes. The drive stays open until it ends or is let go. */
export async function fileOf(
  subject: Subject,
  partition: number,
  path: string,
): Promise<{ name: string; sizeBytes: number; stream: ReadableStream<Uint8Array> }> {
  const entry = await withVolume(subject, partition, async (volume) => {
    const found = await volume.stat(path)
    if (found?.kind !== 'file') throw new Refusal(`There is no file ${path} on this volume.`, 404)
    // What cannot be read is refused before the first byte goes out.
    await volume.readFile(path, 0, 1)
    return found
  })
  let at = 0
  const stream = new ReadableStream<Uint8Array>({
    async pull(controller) {
      if (at >= entry.sizeBytes) return controller.close()
      const bytes = await withVolume(subject, partition, (volume) =>
        volume.readFile(path, at, Math.min(8 * PIECE, entry.sizeBytes - at)),
      )
      if (bytes.length === 0) return controller.close()
      at += bytes.length
      controller.enqueue(bytes)
    },
  })
  return { name: entry.name, sizeBytes: entry.sizeBytes, stream }
}

async function withVolume<T>(
  subject: Subject,
  partition: number,
  work: (volume: FileSystem) => Promise<T>,
): Promise<T> {
  return withSubject(subject, async (device) => work(await openPartition(device, partition)))
}
