import type { Protocol } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import type { Move } from '../move'
import { Refusal } from '../refusal'

/** The computer that is started: where the system will live. */
export function trialComputer({ goal }: Move): Computer {
  if (!goal) throw new Refusal('A virtual machine cannot be started here yet.')
  return goal
}

/** Drivers that serve the controllers of usual computers, by what a drive speaks. */
export const DRIVERS: Readonly<Record<Protocol, readonly string[]>> = {
  SATA: ['storahci', 'msahci'],
  PCIe: ['stornvme'],
}
