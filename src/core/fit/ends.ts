import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { FitTarget } from './types'

/** Partitions that are laid out: the container of logical ones follows from them. */
export function movedPartitions(survey: DriveSurvey): PartitionSurvey[] {
  return survey.partitions.filter((p) => p.role !== 'extended').sort((a, b) => a.firstLba - b.firstLba)
}

/** What a drive is laid out on: its target, or a virtual disk of a size that is still free. */
export function targetOf(source: DriveSurvey, target: FitTarget | null, virtualBytes: number | undefined): FitTarget {
  return target ?? { sizeBytes: virtualBytes ?? source.sizeBytes, logicalSectorSize: 512 }
}
