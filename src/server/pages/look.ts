import { MIB } from '@/core/bytes/size'
import type { DirectoryEntry } from '@/core/filesystem'
import { Refusal } from '../ground/refusals'
import { runTask } from '../jobs/threads'
import { type LookedAt, subjectOf } from '../world/looked-at'

/** One sector with its structures, and the sectors that are worth a look. */
export async function sectorOf(lookedAt: LookedAt, lba: number) {
  const subject = await subjectOf(lookedAt)
  const sector = await runTask('readSector', { subject, lba })
  if (sector.lba === undefined) throw new Refusal('sector-unknown', { last: sector.last, lba })
  return sector
}

/** A folder of a volume. */
export async function folderOf(lookedAt: LookedAt, partition: number, path: string): Promise<DirectoryEntry[]> {
  return runTask('listFolder', { subject: await subjectOf(lookedAt), partition, path })
}

/** A file of a volume as a stream of its bytes. */
export async function fileOf(
  lookedAt: LookedAt,
  partition: number,
  path: string,
): Promise<{ name: string; sizeBytes: number; stream: ReadableStream<Uint8Array> }> {
  const volume = { subject: await subjectOf(lookedAt), partition, path }
  const entry = await runTask('statFile', volume)
  if (!entry) throw new Refusal('file-unknown', { path })
  let at = 0
  const stream = new ReadableStream<Uint8Array>({
    async pull(controller) {
      if (at >= entry.sizeBytes) return controller.close()
      const length = Math.min(8 * MIB, entry.sizeBytes - at)
      const bytes = await runTask('readFilePart', { ...volume, offset: at, length })
      if (bytes.length === 0) return controller.close()
      at += bytes.length
      controller.enqueue(bytes)
    },
  })
  return { name: entry.name, sizeBytes: entry.sizeBytes, stream }
}
