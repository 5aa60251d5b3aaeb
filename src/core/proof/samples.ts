import * as z from 'zod'
import { type BlockDevice, UnreadableSectors } from '../block/device'
import { SliceDevice } from '../block/slice'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { fitSizes, type Layout } from '../fit/types'

/** Digests of files, taken while the old drive was attached: after the start it lies on the shelf. */
export const VolumeSamplesSchema = z.object({
  /** The partition's number on the target. */
  partition: z.number().int(),
  title: z.string(),
  /** `digest`: of its size and its bytes; null for a file that the old drive did not give whole. */
  files: z.array(z.object({ path: z.string(), digest: z.string().nullable() })),
  /** Why its files were not seen; null where they were. */
  why: z.string().nullable(),
})
export type VolumeSamples = z.infer<typeof VolumeSamplesSchema>
export const SamplesSchema = z.array(VolumeSamplesSchema)

/** Files chosen from each volume, spread over its tree. */
const SPREAD_FILES = 200
/** Files with moved clusters that are always among them, and among how many they are looked for. */
const MOVED_FILES = 60
const MOST_LOOKED_AT = 6000
/** Of a very full volume only so many files are chosen from. */
const MOST_FILES = 20_000
/** A file of up to as many pieces is read whole; of a larger one so many, from its first bytes to its last. */
const PIECES = 8
const PIECE_BYTES = 128 * 1024

/**
 * Chooses files of every volume that comes along and takes their digests from the drive that was copied. Nothing is
 * written. `layout`: the fit, which was made for this drive. `lost`: files that the copy names as lost, by the partition
 * they are on there; they are not asked of the drive again.
 */
export async function takeSamples(
  source: BlockDevice,
  layout: Layout,
  lost: readonly { readonly sourcePartition: number; readonly files: readonly string[] }[],
  digest: Digest,
): Promise<VolumeSamples[]> {
  const volumes: VolumeSamples[] = []
  for (const p of layout.partitions) {
    const { before, after } = fitSizes(p, layout)
    const named = { partition: p.number, title: p.title }
    const gone = new Set(lost.filter((l) => l.sourcePartition === p.sourceNumber).flatMap((l) => l.files))
    try {
      const slice = new SliceDevice(source, p.sourceFirstLba * layout.sourceSectorSize, before)
      const volume = await openFileSystem(slice)
      if (volume?.encrypted) volumes.push({ ...named, files: [], why: 'it is encrypted' })
      if (!volume || volume.depth !== 'files') continue
      const files: VolumeSamples['files'] = []
      for (const { path } of await chooseFiles(volume, after))
        files.push({ path, digest: gone.has(path) ? null : await unlessUnreadable(fileDigest(volume, path, digest)) })
      volumes.push({ ...named, files, why: null })
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      volumes.push({ ...named, files: [], why: error.message })
    }
  }
  return volumes
}

/** Digest of a file's size and bytes; 'missing' where there is none. Throws UnreadableSectors. */
export async function fileDigest(volume: FileSystem, path: string, digest: Digest): Promise<string> {
  const stat = await volume.stat(path)
  if (!stat) return 'missing'
  const { sizeBytes } = stat
  const file = await volume.openFile(path)
  const piece = async (at: number, length: number) => toHex(digest(await file.read(at, length)))
  if (sizeBytes <= PIECES * PIECE_BYTES) return `${sizeBytes}:${await piece(0, sizeBytes)}`
  const step = (sizeBytes - PIECE_BYTES) / (PIECES - 1)
  const pieces: string[] = []
  for (let i = 0; i < PIECES; i++) pieces.push(await piece(Math.floor(i * step), PIECE_BYTES))
  return `${sizeBytes}:${toHex(digest(new TextEncoder().encode(pieces.join(' '))))}`
}

/** What is read, or null where the drive does not give it. */
async function unlessUnreadable<T>(reading: Promise<T>): Promise<T | null> {
  try {
    return await reading
  } catch (error) {
    if (error instanceof UnreadableSectors) return null
    throw error
  }
}

/** Files spread over the whole tree, the same ones each time, and those with clusters that had to move. */
async function chooseFiles(volume: FileSystem, sizeBytes: number): Promise<{ path: string }[]> {
  const files: { path: string }[] = []
  const folders = ['/']
  while (folders.length > 0 && files.length < MOST_FILES) {
    for (const entry of await volume.list(folders.shift()!)) {
      if (entry.kind === 'directory') folders.push(entry.path)
      // A link leads to something that is met where it stands, and a device has no content.
      else if (entry.kind === 'file') files.push(entry)
    }
  }
  const step = Math.max(1, files.length / SPREAD_FILES)
  const spread = Array.from({ length: Math.min(SPREAD_FILES, files.length) }, (_, i) => files[Math.floor(i * step)])
  const moved = await movedFiles(volume, files, sizeBytes)
  return [...new Set([...moved, ...spread])]
}

/** Files that reached beyond where a smaller volume ends. */
async function movedFiles<F extends { path: string }>(
  volume: FileSystem,
  files: readonly F[],
  sizeBytes: number,
): Promise<F[]> {
  if (sizeBytes >= volume.totalBytes || !volume.fileExtents) return []
  const moved: F[] = []
  for (const file of files.slice(0, MOST_LOOKED_AT)) {
    const extents = await volume.fileExtents(file.path).catch(() => [])
    if (extents.some(({ offset, length }) => offset + length > sizeBytes)) moved.push(file)
    if (moved.length === MOVED_FILES) break
  }
  return moved
}
