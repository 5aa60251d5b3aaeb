import { MIB } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'
import { solveFit } from './solve'
import type { FitResult, FitWish, Layout } from './types'

const AS_IT_IS: FitWish = { rules: {}, sizes: {}, reserve: 0 }

/** The layout on a drive that only carries a copy on its way: every partition as large as it is. */
export function layoutOnTheWay(source: DriveSurvey, via: DriveSurvey): FitResult {
  return solveFit(source, via, AS_IT_IS)
}

/** Room behind the last partition that an image gets where the tables need more than the drive gives them. */
const MORE_BYTES = 64 * MIB

/** The layout in an image that holds the drive as it is, or one of its volumes in its place. */
export function layoutInImage(source: DriveSurvey, volume?: number): FitResult {
  const { sizeBytes, logicalSectorSize } = source
  const others = source.partitions.map((p) => p.number).filter((n) => n !== volume)
  const wish = volume === undefined ? AS_IT_IS : { ...AS_IT_IS, leaveOut: others }
  const same = solveFit(source, { sizeBytes, logicalSectorSize }, wish)
  return same.fits ? same : solveFit(source, { sizeBytes: sizeBytes + MORE_BYTES, logicalSectorSize }, wish)
}

/**
 * A layout that was made for the source, for a copy that is read from another drive which carries the source's
 * partitions laid out as `via`.
 */
export function layoutFrom(via: Layout, layout: Layout): Layout {
  const partitions = layout.partitions.map((partition) => {
    const there = via.partitions.find((p) => p.sourceNumber === partition.sourceNumber)
    if (!there) throw new RangeError(`Partition ${partition.sourceNumber} is not on the drive that is copied from.`)
    return { ...partition, sourceFirstLba: there.firstLba, sourceLastLba: there.lastLba }
  })
  return { ...layout, sourceSizeBytes: via.targetSizeBytes, sourceSectorSize: via.sectorSize, partitions }
}
