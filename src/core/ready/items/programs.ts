import type { ReadyKind } from '../port'

const WHY = {
  sync: 'It writes whenever a file changes somewhere else.',
  antivirus: 'It holds files open and slows every read.',
  mail: 'Its store is written at every message.',
  program: 'What it has open is not on the drive yet.',
} as const

/** Programs that would write under a copy of a running system. */
export const programs: ReadyKind = ({ live, computer }) => {
  if (!live || !computer) return []
  const open = computer.programs.filter((p) => p.running)
  if (open.length === 0) {
    const title = 'No program writes in the background'
    const why = computer.programs.map((p) => p.name).join(', ') || 'none is known'
    return [{ id: 'programs', state: 'settled', known: 'seen now', title, why }]
  }
  return open.map((p) => ({
    id: `program-${p.id}`,
    state: 'open' as const,
    known: 'seen now',
    title: `${p.name} is running.`,
    why: WHY[p.kind],
    how: 'Close it for as long as the copy takes.',
    action: { id: 'close-program' as const, label: 'Close it', of: p.id },
    overridable: 'What it writes during the copy may be in the copy half.',
  }))
}
