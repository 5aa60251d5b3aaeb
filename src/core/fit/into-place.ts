import { MIB } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'
import { solveFit } from './solve'
import type { FitObstacle, FitPartition, FitWish, Layout } from './types'

/** A stretch of a drive that a volume is put into; sectors are inclusive. */
export interface Place {
  readonly number: number
  readonly firstLba: number
  readonly lastLba: number
  readonly sectorSize: 512 | 4096
  readonly driveBytes: number
  /** What volumes are called there, by number. */
  readonly labels?: FitWish['labels']
}

export type FitInto =
  | { readonly fits: true; readonly layout: Layout; readonly partition: FitPartition }
  | { readonly fits: false; readonly obstacles: readonly FitObstacle[] }

/** Room for tables and alignment around the one partition that is asked about. */
const AROUND_BYTES = 64 * MIB

/**
 * Lays one volume of a drive out in a place on another drive: it takes the length of that place where its kind can, and
 * else stays as it is, where the place is not smaller. The layout has that partition alone; it makes no table.
 */
export function fitInto(survey: DriveSurvey, volume: number, place: Place): FitInto {
  const source = survey.partitions.find((p) => p.number === volume)
  const others = survey.partitions.map((p) => p.number).filter((n) => n !== volume)
  const bytes = (place.lastLba - place.firstLba + 1) * place.sectorSize
  const whole = Math.floor(bytes / MIB) * MIB
  // A length that differs by less than a step of the layout is none to change a volume for.
  const stays = source !== undefined && source.sizeBytes <= bytes && source.sizeBytes >= whole
  const target = { sizeBytes: 2 * (bytes + survey.sizeBytes) + AROUND_BYTES, logicalSectorSize: place.sectorSize }
  const result = solveFit(survey, target, {
    rules: { [volume]: stays ? 'keep' : 'set' },
    sizes: stays ? {} : { [volume]: Math.max(whole, 1) },
    reserve: 0,
    leaveOut: others,
    labels: place.labels,
  })
  if (!result.fits) return { fits: false, obstacles: result.obstacles }
  const [laid] = result.layout.partitions
  const { firstLba, number } = place
  // A volume that takes another length takes one of whole steps; what is left behind it stays unused.
  const lastLba = laid.resizes ? firstLba + whole / place.sectorSize - 1 : place.lastLba
  const partition = { ...laid, number, firstLba, lastLba }
  const layout = { ...result.layout, targetSizeBytes: place.driveBytes, partitions: [partition], gaps: [] }
  return { fits: true, layout, partition }
}

/** Where a volume of a length goes in the largest unallocated stretch, in whole steps; undefined where there is none. */
export function freePlace(
  { gaps, partitions, logicalSectorSize: sector }: DriveSurvey,
  sizeBytes: number,
): Pick<Place, 'firstLba' | 'lastLba'> | undefined {
  const containers = partitions.filter((p) => p.role === 'extended')
  const step = MIB / sector
  const places = gaps
    // Inside of a container only logical partitions are made.
    .filter(({ firstLba, lastLba }) =>
      containers.every((c) => lastLba * sector < c.startBytes || firstLba * sector >= c.startBytes + c.sizeBytes),
    )
    .map(({ firstLba, lastLba }) => ({
      firstLba: Math.ceil(firstLba / step) * step,
      lastLba: Math.floor((lastLba + 1) / step) * step - 1,
    }))
    .filter(({ firstLba, lastLba }) => lastLba > firstLba)
    .sort((a, b) => b.lastLba - b.firstLba - (a.lastLba - a.firstLba))
  const [largest] = places
  if (!largest) return undefined
  const wanted = Math.ceil(sizeBytes / MIB) * step
  return { firstLba: largest.firstLba, lastLba: Math.min(largest.lastLba, largest.firstLba + wanted - 1) }
}
