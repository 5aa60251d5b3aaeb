import { type BlockDevice, type Extent, isZero, readBytes } from '../block/device'
import { OverlayDevice } from '../block/overlay'
import type { RescueLimits } from '../block/read-around'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import { solveInto, whyNotPrepared } from '../fit/into'
import type { FitObstacle, FitPartition, Layout } from '../fit/types'
import { applyRepair, type RepairJournal } from '../repair/apply'
import { patchesOf } from '../repair/written'
import { readScheme } from '../scheme'
import { addEntry, type EntryType, retype } from '../scheme/entry'
import { NoPartition } from '../survey/open-partition'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { CopyPlan } from './plan'
import type { Lost } from './progress'
import { retryLost, type RetryOutcome } from './retry'
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
  | ({ readonly fits: true } & PutPlan)
  | { readonly fits: false; readonly obstacles: readonly FitObstacle[] }

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
  volumeOf(source, volume, 'source')
  const inUse = whyNotPrepared(volumeOf(survey, into, 'target'))
  if (inUse && !sure) throw new CoreError(`${inUse.sentence} Nothing was written.`)
  const laid = solveInto(source, survey, volume, { into }, { sure })
  if (!laid.fits) return { fits: false, obstacles: laid.obstacles }
  return { fits: true, ...(await putOf(target, survey, laid.layout)) }
}

/** What a layout into a partition writes, on the drive as it is now. Throws CoreError where it is of a whole drive. */
export async function putOf(target: BlockDevice, survey: DriveSurvey, layout: Layout): Promise<PutPlan> {
  const [partition] = layout.partitions
  if (!layout.into || !partition) throw new CoreError('The layout is of a whole drive.')
  const { number: into, sourceNumber: volume, firstLba, lastLba, mbr, typeGuid } = partition
  const { sectorSize } = layout
  const place = { offset: firstLba * sectorSize, length: (lastLba - firstLba + 1) * sectorSize }
  return {
    ...{ volume, into, layout, partition, sectorSize, place },
    type: mbr ? { mbrType: mbr.type } : { typeGuid },
    entry: layout.into,
    holds: await holdsWords(new SliceDevice(target, place.offset, place.length)),
    stays: restOf(survey, into),
  }
}

/**
 * Makes the entry that a layout into unallocated space has its volume in, unless it is there already. Rejects with
 * CoreError, nothing written, where the table or the space is not what it was.
 */
export async function addPlace(drive: BlockDevice, layout: Layout, journal: RepairJournal): Promise<void> {
  const [{ number, guid, firstLba, lastLba, mbr, typeGuid }] = layout.partitions
  const reading = await readScheme(drive)
  const named =
    reading && reading.scheme !== 'damaged' ? reading.partitions.find((p) => p.number === number) : undefined
  if (named && named.firstLba === firstLba && named.lastLba === lastLba && (mbr || named.guid === guid)) return
  const type = mbr ? { mbrType: mbr.type } : { typeGuid }
  const patches = await patchesOf(drive, async (changed) => {
    const given = await addEntry(changed, { type, firstLba, lastLba, guid })
    if (given !== number) throw new CoreError('The table of the target is not what it was when the fit was made.')
  })
  const plan = { name: `entry ${number}`, title: `Partition ${number} is made`, changes: [], patches }
  await applyRepair(drive, plan, journal)
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
  /** The target forgets any stretch of itself when told to; else zeros are written. */
  readonly forgets?: boolean
}

/**
 * Writes a volume into its partition, which gets its type before its first sector makes it whole, then holds all else
 * against what it was. The target was confirmed before. Rejects as `runCopy` does, and with CoreError where something
 * else of the target is another than before.
 */
export async function runPut(
  target: BlockDevice,
  put: PutPlan,
  plan: CopyPlan,
  { sha256, tableJournal, forgets = false, ...options }: PutOptions,
): Promise<CopyOutcome> {
  const { into, type, entry, place, stays } = put
  const before = await digestOf(await withType(target, into, type), stays, sha256)
  const slice = new SliceDevice(target, place.offset, place.length)
  const outcome = await runCopy(plan, forgets ? slice : withoutDiscard(slice), {
    ...options,
    beforeTables: async () => {
      await options.beforeTables?.()
      if (entry.before === entry.after) return
      const patches = await patchesOf(target, (drive) => retype(drive, into, type))
      if (patches.length === 0) return
      const title = `Partition ${into} gets its type`
      await applyRepair(target, { name: 'retype', title, changes: [], patches }, tableJournal)
    },
  })
  if ((await digestOf(target, stays, sha256)) !== before)
    throw new CoreError('Something of the target outside of the partition is not what it was before the copy.')
  return { ...outcome, lost: onDrive(outcome.lost, put.partition) }
}

/** As `retryLost`, of a volume that was put into a partition. */
export async function retryPut(
  target: BlockDevice,
  { partitions: [partition], sectorSize }: Layout,
  plan: CopyPlan,
  lost: readonly Lost[],
  limits?: RescueLimits,
): Promise<RetryOutcome> {
  const { firstLba, lastLba } = partition
  const slice = new SliceDevice(target, firstLba * sectorSize, (lastLba - firstLba + 1) * sectorSize)
  const inPartition = lost.map((run) => ({ ...run, targetLba: run.targetLba - firstLba }))
  const found = await retryLost(plan, slice, inPartition, limits)
  return { ...found, lost: onDrive(found.lost, partition) }
}

/** What was lost of a volume, by where that is on the drive and not in its partition. */
const onDrive = (lost: readonly Lost[], { number, firstLba }: FitPartition): Lost[] =>
  lost.map((run) => ({ ...run, partition: number, targetLba: run.targetLba + firstLba }))

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
  await drive.uncache?.()
  for (const { offset, length } of extents) parts.push(toHex(digest(await readBytes(drive, offset, length))))
  return parts.join()
}

/** A volume whose drive forgets nothing but itself as a whole. */
function withoutDiscard(volume: BlockDevice): BlockDevice {
  const { size, logicalSectorSize, physicalSectorSize } = volume
  return {
    ...{ size, logicalSectorSize, physicalSectorSize },
    read: (offset, into) => volume.read(offset, into),
    write: (offset, from) => volume.write(offset, from),
    flush: () => volume.flush(),
    ...(volume.uncache ? { uncache: () => volume.uncache!() } : {}),
  }
}
