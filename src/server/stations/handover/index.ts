import * as z from 'zod'
import { line } from '@/core/words-schema'
import { BenchRow, DriveRow } from '../../database/models'
import { hasStarted } from '../../database/notes'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import { dayAfter, laterDay } from '../../ground/words'
import { saveStationResults, loadMove, retiresSources } from '../../moves'
import { progressOf, stepsAfterStart } from '../../moves/legs'
import { driveById } from '../../world'
import { benchNow } from '../../world/clock'

/** How long an old drive is kept as the way back. */
export const SHELF_DAYS = 14

export const HandOverSchema = z.object({
  by: line().trim().max(60).default(''),
  /** The day on the sheet, as `2026-05-04`; the bench's own without. */
  day: z.iso.date().optional(),
  /** Name and address of the shop, for this sheet and those after it. */
  shop: line().trim().max(160).default(''),
})
type HandOver = z.infer<typeof HandOverSchema>

/** Closes a move whose computer starts from the new drive, and puts a day on the old one. */
export async function handOver(moveId: string, input: unknown = {}): Promise<void> {
  const said = HandOverSchema.parse(input)
  await inTransaction(() => close(moveId, said))
}

async function close(moveId: string, { by, day, shop }: HandOver): Promise<void> {
  const move = await loadMove(moveId)
  const { row, pairs, brief } = move
  if (!hasStarted(move)) {
    throw new Refusal('handover-before-proof')
  }
  if (row.handover) return
  const progress = await progressOf(row)
  const open = progress ? stepsAfterStart(move, progress) : []
  if (open.length > 0) throw new Refusal('handover-before-swap', { step: open[0].title })
  const at = await benchNow()
  const shelfUntil = dayAfter(at, SHELF_DAYS)
  for (const { source } of retiresSources(move) ? pairs : []) {
    const drive = await driveById(source.id)
    // Another move of the same drive may keep it longer.
    const until = laterDay(shelfUntil, drive.shelf?.until ?? '')
    const data = { ...drive, shelf: { label: `${brief.name}, old`, until } }
    await DriveRow.update({ data }, { where: { id: source.id } })
  }
  const entry = { text: by ? `handed over by ${by}` : 'handed over', tone: 'good' } as const
  if (shop !== '') await BenchRow.update({ shop }, { where: { id: row.benchId } })
  const handover = { at, shelfUntil, by, ...(day ? { day } : {}), ...(shop === '' ? {} : { shop }) }
  await saveStationResults(moveId, { handover }, entry)
}
