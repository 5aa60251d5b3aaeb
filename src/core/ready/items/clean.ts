import type { DriveSurvey } from '../../survey/types'
import type { ReadyItem, ReadyKind } from '../port'

/** An unclean file system is the commonest cause of a copy found failed in the morning. */
export const clean: ReadyKind = ({ source, surveyedAt }) => [itemFor(source, surveyedAt)]

function itemFor(source: DriveSurvey, surveyedAt: string): ReadyItem {
  const known = `read ${surveyedAt}`
  const dirty = source.partitions.filter((p) => p.volume?.state === 'dirty')
  const damaged = source.partitions.filter((p) => p.findings.some((f) => f.severity === 'damage'))
  if (damaged.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${damaged.map((p) => p.title).join(' and ')} cannot be read properly.`,
      why: 'A copy by used blocks would leave out what is not understood.',
      how: 'Have the file system repaired by its own system, then read the drive again in Survey.',
    }
  }
  if (dirty.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${dirty.map((p) => p.title).join(' and ')} was not closed cleanly.`,
      why: 'A copy would carry the fault along, and may stop half way.',
      how: 'Run the file-system check in the computer and shut it down, then read the drive again in Survey.',
    }
  }
  const names = source.partitions.filter((p) => p.volume).map((p) => p.title)
  return { id: 'clean', state: 'settled', known, title: 'File systems are clean', why: names.join(', ') }
}
