import type { DriveSurvey } from '@/core/survey/types'
import type { HullPart } from '@/ui/shared/hull-geometry'
import { withGaps } from '@/ui/shared/hull-parts'

/** A surveyed drive as parts of a hull: partitions and the room between them, first sector to last. */
export function hullParts(survey: DriveSurvey): HullPart[] {
  if (survey.partitions.length === 0) {
    return [
      {
        key: 'all',
        title: survey.scheme === 'none' ? 'Unallocated' : 'Not understood',
        role: survey.scheme === 'none' ? 'unallocated' : 'unknown',
        sizeBytes: survey.sizeBytes,
      },
    ]
  }
  // An extended partition is only the frame around its logical ones.
  const drawn = survey.partitions.filter((p) => p.role !== 'extended')
  const partitions = drawn.map(({ firstLba, number, title, role, sizeBytes, volume }) => ({
    firstLba,
    part: { key: String(number), title, role, sizeBytes, usedBytes: volume?.usedBytes },
  }))
  return withGaps(partitions, survey.gaps)
}
