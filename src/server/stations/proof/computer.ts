import type { Computer } from '@/core/things/computer'
import { Refusal } from '../../ground/refusal'
import type { Move } from '../../moves'

/** The computer that is started: where the system will live. */
export function trialComputer({ goal }: Move): Computer {
  if (!goal) throw new Refusal('A virtual machine cannot be started here yet.')
  return goal
}
