import { z } from 'zod'
import { type BlockDevice, UnreadableSectors } from '../block/device'
import { SliceDevice } from '../block/slice'
import { formatSize } from '../bytes/size'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { fitSizes, type Layout } from '../fit/types'
import { surveyDrive } from '../survey/survey'
import type { DriveSurvey } from '../survey/types'

/** One thing that was looked at after the start. */
export const ProofCheckSchema = z.object({
  id: z.string(),
  title: z.string(),
  passed: z.boolean(),
  found: z.string(),
})
export type ProofCheck = z.infer<typeof ProofCheckSchema>

/** A file that is known to differ: its content was left out, or it was written after the copy's moment. */
export interface Apart {
  readonly path: string
  /** Number of its partition on the target, or on the source. */
  readonly partition?: number
  readonly sourcePartition?: number
}

/** What the target was to become. */
export interface Planned {
  readonly layout: Layout
  /** GUID of the partition that the system was started from; undefined where none has to be. */
  readonly startedGuid?: string
  readonly apart?: readonly Apart[]
  /** Partitions that took up more room after that, with their sizes in bytes. */
  readonly grown?: readonly { readonly partition: number; readonly sizeBytes: number }[]
}

/** Files compared byte for byte; those beyond twice this size by their first and last bytes. */
const SAMPLE_FILES = 200
const SAMPLE_BYTES = 512 * 1024
/** Of a very full volume only so many files are chosen from. */
const MOST_FILES = 20_000
/** Files with moved clusters that are always among them, and among how many they are looked for. */
const MOVED_FILES = 60
const MOST_LOOKED_AT = 6000

/**
 * Looks at a target that has started: the system volume is the one on this drive, all volumes are there in
 * their planned sizes, sample files from source and target are equal. Nothing is written.
 */
export async function compareWithSource(
  source: BlockDevice,
  target: BlockDevice,
  { layout, startedGuid, apart = [], grown = [] }: Planned,
  digest: Digest,
  /** For the files' contents: a quick one that is strong. */
  fileDigest: Digest,
): Promise<ProofCheck[]> {
  const survey = await surveyDrive(target, digest)
  const checks: ProofCheck[] = []
  const system = layout.partitions.find((p) => p.role === 'system')
  const running = survey.partitions.find((p) => p.guid === startedGuid)
  checks.push({
    id: 'system-volume',
    title: 'System volume is on the new drive',
    passed: Boolean(running && system && running.guid === system.guid && running.firstLba === system.firstLba),
    found: running ? `${running.title}, partition ${running.number}` : 'not found',
  })
  checks.push(await comparePartitions(survey, layout, () => surveyDrive(source, digest)))
  const wrong = layout.partitions.filter((p) => {
    const now = survey.partitions.find((s) => s.guid === p.guid)
    const grownVolume =
      now?.volume && now.volume.canGrow && now.volume.totalBytes < now.sizeBytes - now.volume.clusterSize
    return now?.sizeBytes !== sizeNow(p, layout, grown) || grownVolume
  })
  const shown = system && survey.partitions.find((s) => s.guid === system.guid)
  checks.push({
    id: 'sizes',
    title: 'Sizes as planned',
    passed: wrong.length === 0,
    found:
      wrong.length > 0 ? wrong.map((p) => p.title).join(', ') : `${shown?.title} ${formatSize(shown?.sizeBytes ?? 0)}`,
  })
  checks.push(await compareSamples(source, target, { layout, apart, grown }, fileDigest))
  return checks
}

/** Every partition in its place, and nothing wrong with any that was not wrong on the source. */
async function comparePartitions(
  { partitions }: DriveSurvey,
  layout: Layout,
  readSource: () => Promise<DriveSurvey>,
): Promise<ProofCheck> {
  const nowOf = (p: Layout['partitions'][number]) => partitions.find((s) => s.guid === p.guid && s.number === p.number)
  const missing = layout.partitions.filter((p) => !nowOf(p)).map((p) => `${p.title} is missing`)
  const troubled = layout.partitions.flatMap((p) => {
    const wrong = nowOf(p)?.findings.filter((f) => f.severity !== 'note') ?? []
    return wrong.length > 0 ? [{ p, wrong }] : []
  })
  const before = troubled.length > 0 ? await readSource() : undefined
  const wrong = troubled.flatMap(({ p, wrong }) => {
    const known = before!.partitions.find((s) => s.number === p.sourceNumber)?.findings ?? []
    const [first] = wrong.filter((f) => !known.some((k) => k.code === f.code))
    return first ? [`${p.title}: ${first.sentence}`] : []
  })
  const count = layout.partitions.length
  const asBefore = troubled.length - wrong.length
  return {
    id: 'volumes',
    title: 'All partitions are there',
    passed: missing.length === 0 && wrong.length === 0,
    found:
      [...missing, ...wrong].slice(0, 3).join('; ') ||
      `${count} of ${count}, ${asBefore > 0 ? `${asBefore} with what it had on the old drive` : 'nothing wrong with them'}`,
  }
}

/** Bytes of a partition as planned, or as it became when it took up more room. */
function sizeNow(p: Layout['partitions'][number], layout: Layout, grown: NonNullable<Planned['grown']>): number {
  return grown.findLast((g) => g.partition === p.number)?.sizeBytes ?? fitSizes(p, layout).after
}

async function compareSamples(
  source: BlockDevice,
  target: BlockDevice,
  { layout, apart = [], grown = [] }: Planned,
  digest: Digest,
): Promise<ProofCheck> {
  let compared = 0
  let unread = 0
  let seen = 0
  const different: string[] = []
  for (const p of layout.partitions) {
    const { before, after } = fitSizes(p, layout)
    try {
      const old = await openFileSystem(new SliceDevice(source, p.sourceFirstLba * layout.sourceSectorSize, before))
      // Into what is encrypted nobody sees from here; it was copied whole and read back.
      if (!old || old.depth !== 'files') continue
      seen++
      const length = sizeNow(p, layout, grown)
      const now = await openFileSystem(new SliceDevice(target, p.firstLba * layout.sectorSize, length))
      for (const file of await sampleFiles(old, after)) {
        if (
          apart.some((a) => a.path === file.path && (a.partition === p.number || a.sourcePartition === p.sourceNumber))
        )
          continue
        const wanted = await unlessUnreadable(sampleDigest(old, file, digest))
        // What the old drive no longer gives cannot be compared with; the copy has named it as lost.
        if (wanted === undefined) {
          unread++
          continue
        }
        compared++
        if (!now || wanted !== (await sampleDigest(now, file, digest))) different.push(`${p.title}: ${file.path}`)
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      different.push(`${p.title}: ${error.message}`)
    }
  }
  return {
    id: 'samples',
    title: 'Sample files are equal',
    passed: different.length === 0 && (compared > 0 || seen === 0),
    found:
      different.length > 0
        ? different.slice(0, 3).join('; ')
        : seen === 0
          ? 'no volume whose files can be read from here; all was read back'
          : `${compared} files compared${unread > 0 ? `; ${unread} the old drive does not give any more` : ''}`,
  }
}

/** What is read, or undefined where the drive does not give it. */
async function unlessUnreadable<T>(reading: Promise<T>): Promise<T | undefined> {
  try {
    return await reading
  } catch (error) {
    if (error instanceof UnreadableSectors) return undefined
    throw error
  }
}

/** Files spread over the whole tree, the same ones each time, and those with clusters that had to move. */
async function sampleFiles(volume: FileSystem, sizeBytes: number): Promise<{ path: string; sizeBytes: number }[]> {
  const files: { path: string; sizeBytes: number }[] = []
  const folders = ['/']
  while (folders.length > 0 && files.length < MOST_FILES) {
    for (const entry of await volume.list(folders.shift()!)) {
      if (entry.kind === 'directory') folders.push(entry.path)
      else files.push(entry)
    }
  }
  const step = Math.max(1, files.length / SAMPLE_FILES)
  const spread = Array.from({ length: Math.min(SAMPLE_FILES, files.length) }, (_, i) => files[Math.floor(i * step)])
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

async function sampleDigest(
  volume: FileSystem,
  file: { path: string; sizeBytes: number },
  digest: Digest,
): Promise<string> {
  const stat = await volume.stat(file.path)
  if (!stat) return 'missing'
  const head = await volume.readFile(file.path, 0, SAMPLE_BYTES)
  const tail = await volume.readFile(file.path, Math.max(SAMPLE_BYTES, stat.sizeBytes - SAMPLE_BYTES), SAMPLE_BYTES)
  return `${stat.sizeBytes}:${toHex(digest(head))}:${toHex(digest(tail))}`
}
