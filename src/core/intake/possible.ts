import type { Plan } from '../route/types'

/** What is known of a move whose route was taken. */
export interface MoveFacts {
  readonly toVirtualMachine: boolean
  readonly plan: Pick<Plan, 'actions' | 'live'>
}

/** Why a move cannot be carried out by this version, or undefined when it can. One sentence. */
export function whyNotYet(facts: MoveFacts): string | undefined {
  const { plan } = facts
  if (facts.toVirtualMachine) return 'Writing a virtual machine’s disk is not possible yet.'
  const hows = plan.actions.flatMap((a) => (a.do === 'transfer' ? [a.how] : []))
  if (hows.includes('send')) return 'Sending over the network is not possible yet.'
  return undefined
}
