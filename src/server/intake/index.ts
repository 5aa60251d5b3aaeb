import { benchNow } from '../clock'
import { note } from '../logbook'
import { keep, loadMove } from '../move'

/** Takes the facts of the move as right, so that the drives can be read. */
export async function confirmIntake(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (move.row.intake) return
  await keep(moveId, { intake: { at: await benchNow() } })
  await note(moveId, `taken in: ${move.brief.reason}`)
}
