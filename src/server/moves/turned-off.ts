import type { Move } from '.'

/** Something that Ready turned off and that is still off. */
export interface StillOff {
  readonly id: string
  readonly title: string
  readonly detail: string
}

/** What was turned off for the copy and is not on again. */
export function stillOff({ row, bench }: Move): StillOff[] {
  const seen = new Set<string>()
  return (row.ready?.turnedOff ?? []).flatMap(({ computerId, what, of, name, minutes }): StillOff[] => {
    const computer = bench.computers.find((c) => c.id === computerId)
    const id = `${computerId}/${what}/${of}`
    if (!computer || seen.has(id)) return []
    seen.add(id)
    if (what === 'program') {
      const program = computer.programs.find((p) => p.id === of)
      return program && !program.running ? [{ id, title: name, detail: `closed on the ${computer.name}` }] : []
    }
    if (what === 'network') return computer.online ? [] : [{ id, title: name, detail: `off on the ${computer.name}` }]
    if (computer.sleepMinutes !== null) return []
    return [{ id, title: name, detail: `was after ${minutes} minutes on the ${computer.name}` }]
  })
}
