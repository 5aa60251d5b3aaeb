import { SheetSchema } from '@/core/handover/sheet'
import { Refusal } from '../../ground/refusals'
import { loadMove } from '../../moves'
import { progressOf } from '../../moves/legs'
import { sheetPdf } from './pdf'
import { sheetOf } from './sheet'

/** The sheet of a move as a file to keep. Throws Refusal while there is none. */
export async function sheetFile(moveId: string, as: 'json' | 'pdf') {
  const move = await loadMove(moveId)
  const sheet = await sheetOf(move, await progressOf(move.row))
  if (!sheet) throw new Refusal('sheet-before-proof')
  const name = `${moveId}-sheet.${as}`
  if (as === 'pdf') return { name, type: 'application/pdf', bytes: await sheetPdf(sheet) }
  const text = JSON.stringify({ $schema: '/api/sheets/schema', ...SheetSchema.parse(sheet) }, null, 2)
  return { name, type: 'application/json; charset=utf-8', bytes: new TextEncoder().encode(`${text}\n`) }
}
