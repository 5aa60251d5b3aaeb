import { MoveRow } from './database/models'
import { benchNow, pace } from './clock'
import { database } from './database'

/** What every page's head shows: bench time, its pace, the moves for the palette. */
export async function headState() {
  await database()
  const rows = await MoveRow.findAll({ order: [['position', 'ASC']] })
  return {
    benchNow: Math.round(await benchNow()),
    pace: await pace(),
    moves: rows.map((row) => ({ id: row.id, title: `${row.brief.name}, ${row.brief.customer}` })),
  }
}
