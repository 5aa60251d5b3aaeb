import type { ReadyKind } from '../port'

/** A route that is planned, and that this version cannot carry out. */
export const notYet: ReadyKind = ({ notYet: sentence }) => {
  if (!sentence) return []
  return [
    {
      id: 'not-yet',
      state: 'blocks',
      known: 'by this version',
      title: sentence,
      why: 'The rest of the list holds all the same, and can be settled.',
      how: 'Take another one in Route.',
    },
  ]
}
