import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** The old drive is the only copy while the new one is written. */
export const backup: ReadyKind = (facts) => [itemFor(facts)]

function itemFor({ backup: made, ofSeries, acknowledged }: ReadyFacts): ReadyItem {
  const base = { id: 'backup', known: 'told at intake' }
  if (ofSeries) {
    const why = 'it is only read, once for each computer of its series'
    return { ...base, state: 'settled', title: 'The source stays as it is', why }
  }
  if (made) return { ...base, state: 'settled', title: `Backup of ${made.date}`, why: made.where }
  if (acknowledged.backup) {
    return {
      ...base,
      known: `told ${acknowledged.backup.at}`,
      state: 'settled',
      title: 'No backup, and the customer knows',
      why: 'the source stays as it is, and is the way back',
    }
  }
  return {
    ...base,
    state: 'open',
    title: 'There is no backup.',
    why: 'The old drive is the only copy while the new one is written.',
    how: 'Make one first, or note that the customer wants to go on without.',
    action: { id: 'waive-backup', label: 'Continue without one' },
  }
}
