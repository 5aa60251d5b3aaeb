import { formatSize } from '../../bytes/size'
import { contentWords } from '../../survey/words'
import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** What is on the target, since all of it is erased. */
export const erased: ReadyKind = (facts) => [itemFor(facts)]

function itemFor({ target, targetName, surveyedAt, into }: ReadyFacts): ReadyItem {
  if (into) {
    const { partition, title, holds = 'is empty' } = into
    const rest = 'all else on the drive stays, and is compared after the copy'
    return {
      ...{ id: 'erased', state: 'settled', known: 'seen now' },
      title: `Partition ${partition}, ${title}, of the ${targetName} ${holds}`,
      why: into.holds ? `that is lost; ${rest}` : `only it is written; ${rest}`,
    }
  }
  if (!target) {
    const title = `The ${targetName} is made anew`
    return { id: 'erased', state: 'settled', known: 'by the plan', title, why: 'so nothing is erased' }
  }
  const base = { id: 'erased', state: 'settled', known: `read ${surveyedAt}` } as const
  const holding = (what: string) => ({
    ...base,
    title: `The ${targetName} holds ${what}`,
    why: 'all of it will be erased',
  })
  if (target.scheme === 'none') {
    return { ...base, title: `The ${targetName} holds nothing`, why: 'so nothing of value is erased' }
  }
  if (target.partitions.length === 0) return holding(contentWords(target))
  return holding(`${target.partitions.map((p) => p.title).join(', ')}, ${formatSize(target.usedBytes)} used`)
}
