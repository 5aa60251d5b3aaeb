import type { DriveSurvey } from '@/core/survey/types'
import type { HullPart } from '@/ui/shared/hull-geometry'

/** A surveyed drive as parts of a hull: partitions and the room between them, first sector to last. */
export function hullParts(survey: DriveSurvey): HullPart[] {
  if (survey.partitions.length === 0) {
    return [{ key: 'all', title: 'Unallocated', role: 'unallocated', sizeBytes: survey.sizeBytes }]
  }
  const partitions = survey.partitions.map((p) => ({
    first: p.firstLba,
    part: {
      key: String(p.number),
      title: p.title,
      role: p.role,
      sizeBytes: p.sizeBytes,
      usedBytes: p.volume?.usedBytes,
    } as HullPart,
  }))
  const gaps = survey.gaps.map((gap) => ({
    first: gap.firstLba,
    part: {
      key: `gap-${gap.firstLba}`,
      title: 'Unallocated',
      role: 'unallocated',
      sizeBytes: gap.sizeBytes,
    } as HullPart,
  }))
  return [...partitions, ...gaps].sort((a, b) => a.first - b.first).map(({ part }) => part)
}
