import type { RequestCost } from '@/core/block/timed'
import { measureSpeed, type Speed } from '@/core/intake/speed'
import { type Subject, withSubject } from './subject'

export interface MeasureOrder {
  readonly subject: Subject
  readonly cost: RequestCost
  /** Where the drive is and over what, in words. */
  readonly over: string
}

/** What a drive does now. */
export function measureDrive({ subject, cost, over }: MeasureOrder): Promise<Speed> {
  return withSubject(subject, (device) => measureSpeed(device, cost, over))
}
