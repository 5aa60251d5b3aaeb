import type { ReadyKind } from '../port'

/** A copy that is not read back is one that nobody knows. */
export const readBack: ReadyKind = ({ choices }) => {
  if (choices.verify) return []
  return [
    {
      id: 'read-back',
      state: 'settled',
      known: 'as chosen',
      title: 'Nothing will be read back',
      why: 'what the target really holds is then known only when it starts',
    },
  ]
}
