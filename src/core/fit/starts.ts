import type { DriveSurvey } from '../survey/types'
import { movedPartitions } from './ends'
import { limitsOf } from './limits'
import { defaultWish } from './solve'
import type { FitWish, SizeRule } from './types'

/** A wish to begin with, by name. */
export interface StartingPoint {
  readonly id: 'system' | 'proportion' | 'same' | 'smallest'
  readonly name: string
  readonly says: string
  readonly wish: FitWish
  /** Why it does nothing here; absent where it does something. */
  readonly idle?: string
}

/** The starting points that a source offers. */
export function startingPoints(survey: DriveSurvey): StartingPoint[] {
  const moved = movedPartitions(survey)
  const rulesBy = (ruleOf: (role: string, sizable: boolean) => SizeRule): FitWish => ({
    rules: Object.fromEntries(
      moved.map((p) => [p.number, ruleOf(p.role, Boolean(p.volume?.canGrow || p.volume?.canShrink))] as const),
    ),
    sizes: {},
    reserve: 0,
  })
  const sizable = moved.some((p) => (p.volume?.canGrow || p.volume?.canShrink) && !limitsOf(p).notNow)
  const idle = sizable
    ? undefined
    : 'No volume of this drive can be made larger or smaller here, so all keep their size.'
  const canShrink = moved.some((p) => limitsOf(p).least < p.sizeBytes)
  const isSmall = (role: string) => role === 'boot' || role === 'recovery' || role === 'reserved'
  return [
    {
      id: 'system',
      name: 'Grow the system',
      says: 'The system volume takes what is left, all else keeps its size.',
      wish: defaultWish(survey),
      idle,
    },
    {
      id: 'proportion',
      name: 'Everything in proportion',
      says: 'Volumes with files grow or shrink as the drive does.',
      wish: rulesBy((role, sizable) => (sizable && !isSmall(role) ? 'share' : 'keep')),
      idle,
    },
    {
      id: 'same',
      name: 'Same sizes',
      says: 'Every partition as large as it is; the rest stays unallocated.',
      wish: rulesBy(() => 'keep'),
    },
    {
      id: 'smallest',
      name: 'Smallest',
      says: 'Every volume as small as its files let it be.',
      wish: rulesBy((role, sizable) => (sizable && !isSmall(role) ? 'least' : 'keep')),
      idle: idle ?? (canShrink ? undefined : 'No volume of this drive can be made smaller here.'),
    },
  ]
}
