import { formatSize } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'
import { movedPartitions } from './ends'
import { limitsOf } from './limits'
import { solveFit } from './solve'
import type { FitTarget, FitWish } from './types'

/** One click that makes a volume take less room. */
export interface WayOut {
  readonly id: 'least' | 'leave-out' | 'take-along'
  readonly label: string
  readonly wish: FitWish
  /** It fits with this alone. */
  readonly fits: boolean
}

/** What a volume could give where the target is too small. */
export interface VolumeGives {
  readonly number: number
  readonly title: string
  readonly sizeBytes: number
  /** What it takes by the wish, at the least; 0 where it is left out. */
  readonly takesBytes: number
  /** Room that it would free by being as small as it can be. */
  readonly givesBytes: number
  /** Why it gives no more, as a sentence. */
  readonly why: string
  readonly waysOut: readonly WayOut[]
}

/** Every volume of a source with what it could give, and the ways out that one click takes. In order of their places. */
export function volumesGive(survey: DriveSurvey, target: FitTarget, wish: FitWish): VolumeGives[] {
  const left = new Set(wish.leaveOut ?? [])
  return movedPartitions(survey).map((partition) => {
    const { number, title, sizeBytes } = partition
    const limits = limitsOf(partition)
    const isOut = left.has(number)
    const rule = wish.rules[number] ?? 'keep'
    const asked = rule === 'keep' ? sizeBytes : rule === 'set' ? (wish.sizes[number] ?? sizeBytes) : limits.least
    const takesBytes = isOut ? 0 : Math.max(asked, limits.least)
    const givesBytes = isOut ? 0 : takesBytes - limits.least
    const way = (id: WayOut['id'], label: string, next: FitWish): WayOut => {
      return { id, label, wish: next, fits: solveFit(survey, target, next).fits }
    }
    const least: FitWish = { ...wish, rules: { ...wish.rules, [number]: 'least' } }
    const others = (wish.leaveOut ?? []).filter((n) => n !== number)
    return {
      number,
      title,
      sizeBytes,
      takesBytes,
      givesBytes,
      why: isOut ? 'It is left out.' : (limits.notNow ?? whyNoMore(limits, givesBytes)),
      waysOut: [
        ...(givesBytes > 0 ? [way('least', `Shrink it to ${formatSize(limits.least)}`, least)] : []),
        isOut
          ? way('take-along', 'Take it along', { ...wish, leaveOut: others })
          : way('leave-out', 'Leave it out', { ...wish, leaveOut: [...others, number] }),
      ],
    }
  })
}

function whyNoMore({ least, whyLeast }: { least: number; whyLeast: string }, gives: number): string {
  return gives > 0
    ? `Not less than ${formatSize(least)}, because ${whyLeast}.`
    : `It cannot be smaller, because ${whyLeast}.`
}
