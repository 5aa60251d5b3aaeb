import { formatSize } from '../bytes/size'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { movedPartitions } from './ends'
import { limitsOf } from './limits'
import type { FitObstacle, FitWish } from './types'

/** The wish that is as close as can be to one that does not work, and works. */
export function nearestWish(
  survey: DriveSurvey,
  wish: FitWish,
  obstacles: readonly FitObstacle[],
  fits: (wish: FitWish) => boolean,
): { wish: FitWish; says: string } | undefined {
  let next = wish
  const said: string[] = []
  const works = () => fits(next)
  const titleOf = (number: number) => survey.partitions.find((p) => p.number === number)!.title
  for (const { code, partition } of obstacles) {
    if (partition === undefined) continue
    const source = survey.partitions.find((p) => p.number === partition)!
    const { least, most } = limitsOf(source)
    if (code === 'below-least' || code === 'above-most') {
      const bytes = code === 'below-least' ? least : most
      next = { ...next, sizes: { ...next.sizes, [partition]: bytes } }
      said.push(`${source.title} gets ${formatSize(bytes)}`)
    }
    if (code === 'not-clean') {
      next = { ...next, rules: { ...next.rules, [partition]: 'keep' } }
      said.push(`${source.title} keeps its size`)
    }
    if (code === 'order') {
      next = { ...next, order: undefined }
      said.push('the order of the source')
    }
  }
  if (obstacles.some((o) => o.code === 'beyond-2tib')) {
    next = { ...next, scheme: 'gpt' }
    said.push('a GPT in place of the MBR')
  }
  if (obstacles.some((o) => o.code === 'too-many') && survey.scheme === 'gpt' && wish.scheme === 'mbr') {
    next = { ...next, scheme: 'gpt' }
    said.push('the GPT is kept')
  }
  if (said.length > 0 && works()) return { wish: next, says: said.join(', ') }
  if (next.reserve > 0) {
    next = { ...next, reserve: 0 }
    said.push('nothing is reserved')
    if (works()) return { wish: next, says: said.join(', ') }
  }
  // One volume after the other gives up what it can, the one with most first.
  const slack = (p: PartitionSurvey) => p.sizeBytes - limitsOf(p).least
  const shedding = movedPartitions(survey)
    .filter((p) => !(wish.leaveOut ?? []).includes(p.number))
    .filter((p) => slack(p) > 0 && next.rules[p.number] !== 'least' && next.rules[p.number] !== 'fill')
    .sort((a, b) => slack(b) - slack(a))
  for (const { number } of shedding) {
    next = { ...next, rules: { ...next.rules, [number]: 'fill' } }
    said.push(`${titleOf(number)} takes what is left`)
    if (works()) return { wish: next, says: said.join(', ') }
  }
  return undefined
}
