import { type BlockDevice, type Extent, isZero, readBytes } from '../block/device'
import { OverlayDevice } from '../block/overlay'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import { typeOn } from '../fit/identity'
import { fitInto } from '../fit/into-place'
import type { FitObstacle, FitPartition, Layout } from '../fit/types'
import { applyRepair, type RepairJournal } from '../repair/apply'
import { patchesOf } from '../repair/written'
import { type EntryType, retype } from '../scheme/entry'
import { NoPartition } from '../survey/open-partition'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { CopyPlan } from './plan'
import { type CopyOptions, type CopyOutcome, runCopy } from './run'

// One volume of a drive or an image, put into a partition of a drive that keeps everything else.

/** What is put where: the numbers of partitions, as each drive's table has them. */
export interface PutQuestion {
  readonly volume: number
  readonly into: number
  /** It was made for this volume, or taken for it before, so that it may hold anything. */
  readonly sure: boolean
}

/** What is to be written, worked out on what both drives hold. */
export interface PutPlan {
  readonly volume: number
  readonly into: number
  readonly layout: Layout
  readonly partition: FitPartition
  /** Bytes of the target: all that the copy writes. */
  readonly place: Extent
  readonly sectorSize: 512 | 4096
  readonly type: EntryType
  /** What the table says of the partition, before and after. */
  readonly entry: { readonly before: string; readonly after: string }
  /** What would be lost of the partition, as the end of a sentence; undefined where it is empty. */
  readonly holds: string | undefined
  /** Of the target, what is held against what it was before: the tables, and both ends of every other partition. */
  readonly stays: readonly Extent[]
}

export type Put =
  ({ readonly fits: true } & PutPlan) | { readonly fits: false; readonly obstacles: readonly FitObstacle[] }

/**
 * Works out how a volume goes into a prepared partition: it takes its length where its kind can. Nothing is written.
 * Rejects with NoPartition, and with CoreError where the partition holds a system or belongs to how one starts.
 */
export async function planPut(
  source: DriveSurvey,
  target: BlockDevice,
  survey: DriveSurvey,
  { volume, into, sure }: PutQuestion,
): Promise<Put> {
  const moved = volumeOf(source, volume, 'source')
  const prepared = volumeOf(survey, into, 'target')
  if (prepared.system && !sure)
    throw new CoreError(
      `Partition ${into} of the target holds a system of its own, ${prepared.system.name}. Nothing was written.`,
    )
  if (prepared.role !== 'data' && !sure)
    throw new CoreError(`Partition ${into} of the target belongs to how its system starts. Nothing was written.`)
  const sectorSize = target.logicalSectorSize
  const laid = fitInto(source, volume, {
    number: into,
    firstLba: prepared.startBytes / sectorSize,
    lastLba: (prepared.startBytes + prepared.sizeBytes) / sectorSize - 1,
    sectorSize,
    driveBytes: survey.sizeBytes,
  })
  if (!laid.fits) return { fits: false, obstacles: laid.obstacles }
  const { partition, layout } = laid
  const type = typeOn(survey.scheme, moved)
  return {
    fits: true,
    ...{ volume, into, layout, partition, sectorSize, type },
    place: {
      offset: partition.firstLba * sectorSize,
      length: (partition.lastLba - partition.firstLba + 1) * sectorSize,
    },
    entry: { before: typeText(typeOn(survey.scheme, prepared)), after: typeText(type) },
    holds: await holdsWords(new SliceDevice(target, prepared.startBytes, prepared.sizeBytes)),
    stays: restOf(survey, into),
  }
}

/** A partition by its number. Throws NoPartition. */
export function volumeOf(survey: DriveSurvey, number: number, which: 'source' | 'target'): PartitionSurvey {
  const found = survey.partitions.find((p) => p.number === number && p.role !== 'extended')
  if (!found) throw new NoPartition(`There is no partition ${number} on the ${which}.`)
  return found
}

export interface PutOptions extends CopyOptions {
  /** Of the tables and what else stays. */
  readonly sha256: Digest
  /** Keeps what stood in the table. */
  readonly tableJournal: RepairJournal
}

/**
 * Writes a volume into its partition and gives that its type, then holds all else against what it was. The target was
 * confirmed before. Undefined where the copy had come to its end before and only its entry was left to be written.
 * Rejects as `runCopy` does, and with CoreError where something else of the target is another than before.
 */
export async function runPut(
  target: BlockDevice,
  put: PutPlan,
  plan: CopyPlan,
  { sha256, tableJournal, ...options }: PutOptions,
): Promise<CopyOutcome | undefined> {
  const { into, type, entry, place, stays } = put
  const before = await digestOf(await withType(target, into, type), stays, sha256)
  // A copy that came to its end may have been cut off before its entry was changed.
  const outcome = options.from?.ended
    ? undefined
    : await runCopy(plan, withoutDiscard(new SliceDevice(target, place.offset, place.length)), options)
  if (entry.before !== entry.after) {
    const patches = await patchesOf(target, (drive) => retype(drive, into, type))
    await applyRepair(
      target,
      { name: 'retype', title: `Partition ${into} gets its type`, changes: [], patches },
      tableJournal,
    )
  }
  if ((await digestOf(target, stays, sha256)) !== before)
    throw new CoreError('Something of the target outside of the partition is not what it was before the copy.')
  return outcome
}

/** Entries of a root directory that a system makes by itself. */
const OWN = /^(\$.*|System Volume Information|lost\+found)$/i

/** What would be lost of a partition, as the end of a sentence; undefined where it is empty. */
async function holdsWords(volume: BlockDevice): Promise<string | undefined> {
  const fileSystem = await openFileSystem(volume).catch(() => undefined)
  if (!fileSystem) {
    const front = await readBytes(volume, 0, Math.min(MIB, volume.size))
    return isZero(front) ? undefined : 'holds something that is not known'
  }
  if (fileSystem.depth === 'sealed') return 'is encrypted or sealed'
  const entries = await fileSystem.list('/').catch(() => undefined)
  if (!entries) return 'holds files that cannot be read'
  return entries.some(({ name }) => !OWN.test(name)) ? 'holds files' : undefined
}

export const typeText = (type: EntryType) =>
  'mbrType' in type ? type.mbrType.toString(16).toUpperCase().padStart(2, '0') : type.typeGuid

async function withType(drive: BlockDevice, number: number, type: EntryType): Promise<BlockDevice> {
  const overlay = new OverlayDevice(drive)
  await retype(overlay, number, type)
  return overlay
}

/** What of the rest is held against what it was: all between the partitions, and both ends of each other one. */
function restOf({ partitions, sizeBytes }: DriveSurvey, into: number): Extent[] {
  const rest: Extent[] = []
  const others = partitions.filter((p) => p.role !== 'extended').sort((a, b) => a.startBytes - b.startBytes)
  let at = 0
  for (const { number, startBytes, sizeBytes: length } of others) {
    if (startBytes > at) rest.push({ offset: at, length: startBytes - at })
    at = Math.max(at, startBytes + length)
    if (number === into) continue
    const end = Math.min(MIB, length)
    rest.push({ offset: startBytes, length: end })
    if (length > end) rest.push({ offset: startBytes + length - end, length: end })
  }
  if (sizeBytes > at) rest.push({ offset: at, length: sizeBytes - at })
  return rest.flatMap(({ offset, length }) =>
    // Of much room that nobody uses the ends are enough.
    length <= 4 * MIB
      ? [{ offset, length }]
      : [
          { offset, length: 2 * MIB },
          { offset: offset + length - 2 * MIB, length: 2 * MIB },
        ],
  )
}

async function digestOf(drive: BlockDevice, extents: readonly Extent[], digest: Digest): Promise<string> {
  const parts: string[] = []
  for (const { offset, length } of extents) parts.push(toHex(digest(await readBytes(drive, offset, length))))
  return parts.join()
}

/** A partition of a drive cannot be told to forget what it holds; zeros are written. */
function withoutDiscard(volume: BlockDevice): BlockDevice {
  const { size, logicalSectorSize, physicalSectorSize } = volume
  return {
    ...{ size, logicalSectorSize, physicalSectorSize },
    read: (offset, into) => volume.read(offset, into),
    write: (offset, from) => volume.write(offset, from),
    flush: () => volume.flush(),
  }
}
