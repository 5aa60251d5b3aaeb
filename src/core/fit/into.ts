import { formatSize } from '../bytes/size'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { guidFrom, typeOn } from './identity'
import { fitInto, freePlace, type Place } from './into-place'
import type { Change, FitObstacle, FitResult, FitWish, Layout } from './types'

// One volume of a drive on another one that keeps everything else: in a prepared partition, or in unallocated space.

/** What a volume is put into: a partition by its number, or unallocated space, which gets an entry of its own. */
export type Into = NonNullable<FitWish['into']>

/** A place of a drive that a volume could go to. */
export interface IntoPlace {
  readonly into: Into
  readonly title: string
  readonly firstLba: number
  readonly lastLba: number
  readonly sizeBytes: number
  /** What its volume uses; 0 where there is none. */
  readonly usedBytes: number
  readonly kind: string
  /** Why the volume does not go there; undefined where it does. */
  readonly obstacle?: FitObstacle
}

/** Every place of a drive that a volume of another one could go to, and why not to some of them. */
export function placesFor(source: DriveSurvey, target: DriveSurvey, volume: number): IntoPlace[] {
  const obstacleFor = (into: Into) => {
    const result = solveInto(source, target, volume, { into })
    return result.fits ? undefined : result.obstacles[0]
  }
  const prepared = target.partitions
    .filter((p) => p.role !== 'extended')
    .map(({ number, title, firstLba, lastLba, sizeBytes, volume: held }) => ({
      ...{ into: number, title, firstLba, lastLba, sizeBytes },
      ...{ usedBytes: held?.usedBytes ?? 0, kind: held?.name ?? 'nothing that is known' },
      obstacle: obstacleFor(number),
    }))
  const free = freePlace(target, Infinity)
  if (!free) return prepared
  const sizeBytes = (free.lastLba - free.firstLba + 1) * target.logicalSectorSize
  const common = { into: 'free' as const, title: 'unallocated space', kind: 'nothing', usedBytes: 0 }
  return [...prepared, { ...common, ...free, sizeBytes, obstacle: obstacleFor('free') }]
}

/** The place that is proposed: one that was prepared and is emptiest, else unallocated space; undefined where none fits. */
export function likeliestPlace(places: readonly IntoPlace[]): IntoPlace | undefined {
  const fitting = places.filter((p) => !p.obstacle)
  const prepared = fitting.filter((p) => p.into !== 'free').sort((a, b) => a.usedBytes - b.usedBytes)
  return prepared[0] ?? fitting[0]
}

/** Why nothing is put into a partition, whatever it is to be; undefined where it may be. */
export function whyNotPrepared({ number, role, system }: PartitionSurvey): FitObstacle | undefined {
  const mend = 'Take another partition, or unallocated space.'
  if (system)
    return {
      code: 'in-use',
      sentence: `Partition ${number} of the target holds a system of its own, ${system.name}.`,
      mend,
    }
  if (role === 'unknown')
    return { code: 'in-use', sentence: `What partition ${number} of the target is for cannot be told.`, mend }
  if (role !== 'data')
    return { code: 'in-use', sentence: `Partition ${number} of the target belongs to how its system starts.`, mend }
  return undefined
}

/**
 * Lays one volume of a drive out in a place of another: the entry keeps its number, identity and name, and gets the
 * type of what it holds from now on. Nothing else of the table is touched. `sure`: the partition was taken for it before,
 * so that it may hold anything.
 */
export function solveInto(
  source: DriveSurvey,
  target: DriveSurvey,
  volume: number,
  { into, labels }: Pick<FitWish, 'into' | 'labels'>,
  { sure = false } = {},
): FitResult {
  const moved = source.partitions.find((p) => p.number === volume && p.role !== 'extended')
  if (!moved) return refused('nothing', `There is no partition ${volume} on the source.`, 'Read the drives again.')
  const { scheme, logicalSectorSize: sectorSize } = target
  if (scheme !== 'gpt' && scheme !== 'mbr')
    return refused(
      'no-table',
      'The target has no partition table that keeps anything.',
      'Move the whole drive, or take another target.',
    )
  if (into === undefined) return refused('nothing', 'No place on the target is chosen.', 'Choose one.')
  const prepared = into === 'free' ? undefined : target.partitions.find((p) => p.number === into)
  if (into !== 'free' && !prepared)
    return refused('nothing', `There is no partition ${into} on the target.`, 'Choose another.')
  const inUse = prepared && !sure && whyNotPrepared(prepared)
  if (inUse) return { fits: false, obstacles: [inUse] }
  const place = prepared ?? newPlace(target, moved)
  if ('code' in place) return { fits: false, obstacles: [place] }
  const laid = fitInto(source, volume, {
    ...{ number: place.number, firstLba: place.firstLba, lastLba: place.lastLba, sectorSize },
    driveBytes: target.sizeBytes,
    ...(labels ? { labels } : {}),
  })
  if (!laid.fits) return { fits: false, obstacles: laid.obstacles.map((o) => withWaysOut(o, prepared !== undefined)) }
  const diskGuid = target.table?.diskGuid ?? ''
  const diskSignature = target.mbr?.diskSignature ?? ''
  const type = typeOn(scheme, moved)
  const before = prepared ? typeText(typeOn(scheme, prepared)) : ''
  const after = typeText(type)
  const partition: Layout['partitions'][number] = {
    ...laid.partition,
    mbr: undefined,
    typeGuid: 'typeGuid' in type ? type.typeGuid : '',
    guid: prepared?.guid ?? newGuid(diskGuid || diskSignature, place, moved, scheme),
    name: prepared?.name ?? '',
    attributes: prepared?.attributes ?? '0'.repeat(16),
    ...('mbrType' in type
      ? {
          mbr: {
            type: type.mbrType,
            active: prepared?.mbr?.active ?? false,
            kind: prepared?.mbr?.kind === 'logical' ? ('logical' as const) : ('primary' as const),
            recordLba: prepared?.mbr?.recordLba ?? 0,
          },
        }
      : {}),
  }
  const changes: Change[] = laid.layout.changes.filter((c) => c.partition === volume && c.what === 'label')
  if (prepared && before !== after)
    changes.push({
      partition: volume,
      what: 'type',
      sentence: `The type of partition ${place.number} was ${before} and is written as ${after}.`,
    })
  const bytes = (partition.lastLba - partition.firstLba + 1) * sectorSize
  const where = prepared ? `partition ${place.number}, ${prepared.title}` : `a new partition ${place.number}`
  const size =
    bytes === moved.sizeBytes ? 'as large as it is' : `with ${formatSize(bytes)}, from ${formatSize(moved.sizeBytes)}`
  return {
    fits: true,
    layout: {
      ...laid.layout,
      ...{ scheme, diskGuid, diskSignature, hybrid: [], extended: null, changes },
      startArea: { bootCode: false, lastLba: 0 },
      partitions: [partition],
      into: { before, after },
    },
    headline: `${moved.title} goes into ${where}`,
    reason: `It stands there ${size}. All else on the drive stays as it is, and is compared after the copy.`,
    notes: [],
  }
}

/** Where the new entry of a volume goes; an obstacle where there is no room or no number left. */
function newPlace(
  target: DriveSurvey,
  { sizeBytes }: PartitionSurvey,
): Pick<Place, 'number' | 'firstLba' | 'lastLba'> | FitObstacle {
  const free = freePlace(target, sizeBytes)
  if (!free)
    return {
      code: 'too-small',
      sentence: 'There is no unallocated space on the target.',
      mend: 'Take a partition that was prepared, or another target.',
    }
  const taken = new Set(target.partitions.map((p) => p.number))
  const most = target.scheme === 'mbr' ? 4 : (target.table?.entryCount ?? 128)
  const number = Array.from({ length: most }, (_, i) => i + 1).find((n) => !taken.has(n))
  if (number === undefined)
    return {
      code: 'too-many',
      sentence: `The table of the target names ${most} partitions already, and has no place for another.`,
      mend: 'Take a partition that was prepared.',
    }
  return { number, ...free }
}

/** The same each time for the same volume in the same place. */
function newGuid(
  disk: string,
  place: Pick<Place, 'number' | 'firstLba'>,
  moved: PartitionSurvey,
  scheme: string,
): string {
  if (scheme === 'mbr') return `${disk}-${String(place.number).padStart(2, '0')}`
  return guidFrom(moved.guid, `${disk} ${place.firstLba}`)
}

function withWaysOut(obstacle: FitObstacle, prepared: boolean): FitObstacle {
  if (obstacle.code !== 'too-small' && obstacle.code !== 'below-least') return obstacle
  const room = prepared
    ? 'Take another place, make this one larger from a neighbour that has room, or take another target.'
    : 'Take another place, or another target.'
  return { ...obstacle, mend: room }
}

const refused = (code: FitObstacle['code'], sentence: string, mend: string): FitResult => ({
  fits: false,
  obstacles: [{ code, sentence, mend }],
})

/** A type as tables are read: two hexadecimal digits, or a GUID. */
export const typeText = (type: ReturnType<typeof typeOn>) =>
  'mbrType' in type ? type.mbrType.toString(16).toUpperCase().padStart(2, '0') : type.typeGuid
