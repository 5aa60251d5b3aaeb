import type { Firmware } from '../boot/types'
import type { Plan } from '../route/types'
import type { DriveSurvey } from '../survey/types'

/** What is known of a move whose way was taken. */
export interface MoveFacts {
  readonly firmwareMode: Firmware['mode']
  readonly toVirtualMachine: boolean
  readonly toOtherComputer: boolean
  readonly plan: Pick<Plan, 'actions' | 'live'>
  readonly pairs: readonly { readonly source: DriveSurvey; readonly target: DriveSurvey | null }[]
}

/** Why a move cannot be carried out by this version, or undefined when it can. One sentence. */
export function whyNotYet(facts: MoveFacts): string | undefined {
  const { plan, pairs } = facts
  if (facts.toVirtualMachine) return 'Writing a virtual machine’s disk is not possible yet.'
  if (facts.toOtherComputer) return 'Moving to a computer with another storage controller is not possible yet.'
  if (facts.firmwareMode === 'bios') return 'It starts by BIOS and MBR; only UEFI and GPT can be moved yet.'
  if (plan.live) return 'Copying a system while it runs is not possible yet; take a way by the rescue stick.'
  const hows = plan.actions.flatMap((a) => (a.do === 'transfer' ? [a.how] : []))
  if (hows.includes('send')) return 'Sending over the network is not possible yet.'
  if (hows.some((h) => h !== 'copy')) return 'Going by an image is not possible yet; take a way from drive to drive.'
  for (const { source, target } of pairs) {
    if (source.partitions.some((p) => p.volume?.encrypted))
      return 'Its system volume is encrypted, which cannot be moved yet.'
    if (target && target.sizeBytes < source.sizeBytes)
      return 'The target is smaller, and shrinking is not possible yet.'
  }
  return undefined
}
