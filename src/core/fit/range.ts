import type { DriveSurvey } from '../survey/types'
import { limitsOf } from './limits'
import { solveFit } from './solve'
import { fitSizes, type FitTarget, type FitWish } from './types'

/** What a size may be under a wish, by dragging or typing. In bytes. */
export interface SizeRange {
  readonly least: number
  readonly most: number
}

/** The wish with one partition set to a size. */
export function withSize(wish: FitWish, number: number, bytes: number): FitWish {
  return {
    ...wish,
    rules: { ...wish.rules, [number]: 'set' },
    sizes: { ...wish.sizes, [number]: bytes },
  }
}

/**
 * Bytes between which a partition can be set while all else stays as wished; undefined where its size must stay. The
 * most is what it gets when it alone takes what is left and all else gives what it can.
 */
export function rangeOf(survey: DriveSurvey, target: FitTarget, wish: FitWish, number: number): SizeRange | undefined {
  const source = survey.partitions.find((p) => p.number === number)
  if (!source?.volume) return undefined
  const { least, most, notNow } = limitsOf(source)
  if (notNow) return undefined
  const giving = Object.fromEntries(
    Object.entries(wish.rules).map(([n, rule]) => [n, rule === 'fill' || rule === 'share' ? 'least' : rule] as const),
  )
  const alone = solveFit(survey, target, { ...wish, rules: { ...giving, [number]: 'fill' } })
  if (!alone.fits) return undefined
  const partition = alone.layout.partitions.find((p) => p.sourceNumber === number)
  if (!partition) return undefined
  return { least, most: Math.max(least, Math.min(most, fitSizes(partition, alone.layout).after)) }
}
