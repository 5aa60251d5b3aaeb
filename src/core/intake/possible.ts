import type { Firmware } from '../boot/types'
import type { Plan } from '../route/types'
import type { DriveSurvey } from '../survey/types'

/** What is known of a move whose way was taken. */
export interface MoveFacts {
  readonly toVirtualMachine: boolean
  readonly toOtherComputer: boolean
  readonly plan: Pick<Plan, 'actions' | 'live'>
}

/** Why a start cannot be followed by this version, or undefined when it can. One sentence. */
export function whyNotProved(
  firmware: Pick<Firmware, 'mode'>,
  source?: Pick<DriveSurvey, 'partitions'>,
): string | undefined {
  if (firmware.mode !== 'uefi') {
    return 'It starts by BIOS, and only starts by UEFI can be followed yet.'
  }
  if (source?.partitions.some((p) => p.volume?.encrypted)) {
    return 'Its system volume is encrypted, and a start cannot be followed into it. The first start asks for the recovery key.'
  }
  return undefined
}

/** Why a move cannot be carried out by this version, or undefined when it can. One sentence. */
export function whyNotYet(facts: MoveFacts): string | undefined {
  const { plan } = facts
  if (facts.toVirtualMachine) return 'Writing a virtual machine’s disk is not possible yet.'
  if (facts.toOtherComputer) return 'Moving to a computer with another storage controller is not possible yet.'
  const hows = plan.actions.flatMap((a) => (a.do === 'transfer' ? [a.how] : []))
  if (hows.includes('send')) return 'Sending over the network is not possible yet.'
  if (hows.some((h) => h !== 'copy')) return 'Going by an image is not possible yet; take a way from drive to drive.'
  return undefined
}
