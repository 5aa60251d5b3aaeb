import type { DriveSurvey } from '../../survey/types'
import type { ReadyItem, ReadyKind } from '../port'

/** What cannot be looked into is copied sector by sector, which is said. */
export const readable: ReadyKind = ({ source, surveyedAt }) => [itemFor(source, surveyedAt)]

function itemFor(source: DriveSurvey, surveyedAt: string): ReadyItem {
  const sealed = source.partitions.filter((p) => p.volume?.encrypted)
  if (sealed.length > 0) {
    return {
      id: 'readable',
      state: 'settled',
      known: `read ${surveyedAt}`,
      title: `${sealed.map((p) => p.title).join(' and ')} is encrypted and goes sector by sector`,
      why: 'as it is, free space included, and keeps its size; its recovery key has to be at hand for the first start',
    }
  }
  const unknown = source.partitions.filter((p) => !p.volume && p.role !== 'reserved' && p.role !== 'extended')
  if (unknown.length > 0) {
    return {
      id: 'readable',
      state: 'settled',
      known: `read ${surveyedAt}`,
      title: `${unknown.map((p) => p.title).join(', ')} is copied sector by sector`,
      why: 'its file system is not one that can be read here',
    }
  }
  return {
    id: 'readable',
    state: 'settled',
    known: `read ${surveyedAt}`,
    title: 'No encryption',
    why: 'every volume opened and was read',
  }
}
