import { DriveRow } from '../database/models'
import { benchNow } from '../clock'
import { note } from '../logbook'
import { keep, loadMove } from '../move'
import { Refusal } from '../refusal'
import { dayAfter } from '../words'

/** How long an old drive is kept as the way back. */
export const SHELF_DAYS = 14

/** Closes a move whose computer starts from the new drive, and puts a day on the old one. */
export async function handOver(moveId: string): Promise<void> {
  const { row, pairs, brief } = await loadMove(moveId)
  const last = row.proof?.trials.at(-1)
  if (!last?.trace.starts || last.subject !== 'target' || last.checks.some((c) => !c.passed)) {
    throw new Refusal('It is handed over when the last trial started from the new drive and every check passed.')
  }
  if (row.handover) return
  const at = await benchNow()
  const shelfUntil = dayAfter(at, SHELF_DAYS)
  const shelf = { label: `${brief.name}, old`, until: shelfUntil }
  for (const { source } of pairs) await DriveRow.update({ data: { ...source, shelf } }, { where: { id: source.id } })
  await keep(moveId, { handover: { at, shelfUntil } })
  await note(moveId, 'handed over', 'good')
}
