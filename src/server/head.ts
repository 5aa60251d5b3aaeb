import { activeBench } from './bench'
import { MoveRow } from './database/models'
import { benchNow, pace } from './clock'
import { database } from './database'

/** What every page's head shows: bench time, its pace, the moves for the palette. */
export async function headState() {
  await database()
  const bench = await activeBench()
  const rows = await MoveRow.findAll({ where: { benchId: bench.id }, order: [['position', 'ASC']] })
  return {
    benchNow: Math.round(await benchNow()),
    pace: await pace(),
    bench: bench.name,
    moves: rows.map((row) => ({ id: row.id, title: `${row.brief.name}, ${row.brief.customer}` })),
  }
}
