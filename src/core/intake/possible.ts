import type { Plan } from '../route/types'

/** What is known of a move whose route was taken. */
export interface MoveFacts {
  readonly plan: Pick<Plan, 'actions' | 'live'>
}

/** Why a move cannot be carried out by this version, or undefined when it can. One sentence. */
export function whyNotYet({ plan }: MoveFacts): string | undefined {
  const sends = plan.actions.some((a) => a.do === 'transfer' && a.how === 'send')
  return sends ? 'Sending over the network from computer to computer is not possible yet.' : undefined
}
