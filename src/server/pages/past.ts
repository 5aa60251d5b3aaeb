import * as z from 'zod'
import { driveName } from '@/core/things/drive'
import { database } from '../database'
import { MoveRow } from '../database/models'
import { calendarDay } from '../ground/words'
import { activeBench, benchState } from '../world'

export const PastQuerySchema = z.object({ q: z.string().trim().max(80).default('').catch('') })

/** Moves that were handed over or given up, the newest first, whose customer, computer or a serial holds every word that is asked for. */
export async function pastMoves(query: string) {
  await database()
  const { id, name } = await activeBench()
  const bench = await benchState(id)
  const words = query.toLowerCase().split(/\s+/).filter(Boolean)
  const rows = (await MoveRow.findAll({ where: { benchId: id } })).filter(
    (r) => r.handover || r.standing?.kind === 'given-up',
  )
  const found = rows.flatMap((row) => {
    const { brief, handover, standing } = row
    const at = handover?.at ?? standing!.at
    const drives = brief.pairs.flatMap((p) =>
      [p.sourceId, p.targetId].flatMap((d) => bench.drives.filter((drive) => drive.id === d)),
    )
    const computers = bench.computers.filter((c) => c.id === brief.computerId || c.id === brief.targetComputerId)
    const text = [
      brief.name,
      brief.customer,
      handover?.by ?? '',
      ...drives.flatMap((d) => [driveName(d), d.serial]),
      ...computers.flatMap((c) => [c.name, c.model]),
    ]
      .join('\n')
      .toLowerCase()
    if (!words.every((word) => text.includes(word))) return []
    return [
      {
        id: row.id,
        at,
        givenUp: handover ? null : standing!.why,
        name: brief.name,
        customer: brief.customer,
        computer: computers.map((c) => `${c.model}, the ${c.name}`).join('; '),
        drives: drives.map((d) => ({ name: driveName(d), serial: d.serial })),
        day: calendarDay(at),
      },
    ]
  })
  return { bench: name, query, total: rows.length, found: found.sort((a, b) => b.at - a.at) }
}
