import type { ReadyKind } from '../port'

/** A computer that goes to sleep ends the copy it makes. */
export const sleep: ReadyKind = ({ live, computer }) => {
  if (!live || !computer) return []
  const base = { id: 'sleep', known: 'seen now' }
  if (computer.sleepMinutes === null) {
    return [{ ...base, state: 'settled', title: 'It does not go to sleep', why: 'so the copy runs to its end' }]
  }
  return [
    {
      ...base,
      state: 'open',
      title: `The ${computer.name} goes to sleep after ${computer.sleepMinutes} min.`,
      why: 'Asleep it copies nothing.',
      how: 'Turn sleep and hibernation off until the copy is done.',
      action: { id: 'no-sleep', label: 'Turn it off' },
    },
  ]
}
