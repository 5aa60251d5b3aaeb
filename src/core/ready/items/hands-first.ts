import { listed } from '../../words'
import type { ReadyKind } from '../port'

/** On the list when drives have to change places before this leg. */
export const handsFirst: ReadyKind = ({ handsFirst: first, elsewhere }) => {
  if (!first) return []
  return [
    {
      id: 'hands-first',
      state: 'blocks',
      known: 'by the plan',
      title: 'The drives have to change places first.',
      why:
        elsewhere.length === 0
          ? 'Hands have something to do before this copy.'
          : `The plan has ${listed(elsewhere.map((name) => `the ${name}`))} elsewhere for this copy.`,
      how: 'Go through the steps one by one; each is ticked off as it is done.',
      action: { id: 'go-to-swap', label: 'Show the steps' },
    },
  ]
}
