import type { ReadyKind } from '../port'

/** A system keeps devices, letters and addresses of the computer that it was set up on. */
export const generalised: ReadyKind = ({ goal, source, sourceName, surveyedAt, acknowledged }) => {
  if (goal?.kind !== 'other-computer') return []
  const systems = source.partitions.flatMap((p) => p.system ?? [])
  if (systems.length === 0) return []
  const base = { id: 'generalised', known: `read ${surveyedAt}` }
  if (systems.every((s) => s.generalised)) {
    const title = 'The system was made ready for another computer'
    return [{ ...base, state: 'settled', title, why: 'it sets itself up anew at its first start' }]
  }
  if (acknowledged.generalised) {
    return [
      {
        ...base,
        known: `told ${acknowledged.generalised.at}`,
        state: 'settled',
        title: 'What belongs to the old computer goes after the first start',
        why: `on the new drive, in Proof; the ${sourceName} keeps it`,
      },
    ]
  }
  return [
    {
      ...base,
      state: 'open',
      title: 'The system still belongs to the old computer.',
      why: `It keeps that one’s devices and addresses, and would start on the ${goal.name} with them.`,
      how: 'Make it ready in its own system first, then read the drive again; or let go of all that in Proof, on the new drive.',
      action: { id: 'reset-later', label: 'Let go of it in Proof' },
    },
  ]
}
