import type { Computer } from '@/core/things/computer'
import { Refusal } from '../../ground/refusals'
import type { Move } from '../../moves'

/** The computer that is started: where the system will live. */
export function trialComputer({ goal }: Move): Computer {
  if (!goal) throw new Refusal('no-machine')
  return goal
}
