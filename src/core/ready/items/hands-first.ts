import type { ReadyKind } from '../port'

/** On the list when drives have to change places before this leg. */
export const handsFirst: ReadyKind = ({ handsFirst: first, sourceName, targetName, target }) => {
  if (!first) return []
  return [
    {
      id: 'hands-first',
      state: 'blocks',
      known: 'by the plan',
      title: 'The drives have to change places first.',
      why: target
        ? `The plan has the ${sourceName} and the ${targetName} elsewhere for this copy.`
        : `The plan has the ${sourceName} elsewhere for this copy.`,
      how: 'Go through the steps one by one; each is ticked off as it is done.',
      action: { id: 'go-to-swap', label: 'Show the steps' },
    },
  ]
}
