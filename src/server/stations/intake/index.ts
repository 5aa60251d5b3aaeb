import { type MoveRow } from '../../database/models'
import { Refusal } from '../../ground/refusal'
import { keep, loadMove, type Move } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { note } from '../../moves/logbook'
import { benchNow } from '../../world/clock'
import { speedOf } from '../../world/measure'

/** Takes the facts of the move as right, so that the drives can be read. */
export async function confirmIntake(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (move.row.intake) return
  await keep(moveId, { intake: { at: await benchNow(), speeds: await measured(move) } })
  await note(moveId, `taken in: ${move.brief.reason}`)
}

/** Measures what every source that is connected and has bytes does now. */
async function measured(move: Move) {
  const speeds: NonNullable<MoveRow['intake']>['speeds'] = {}
  for (const { source } of move.pairs) {
    const speed = await speedOf(source, move.bench)
    if (speed) speeds[source.id] = { ...speed, at: await benchNow() }
  }
  return speeds
}

/** Measures the old drives again, as long as nothing was copied. */
export async function measureAgain(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  await refuseAfterCopy(moveId)
  const speeds = await measured(move)
  if (Object.keys(speeds).length === 0)
    throw new Refusal('No drive of this move is connected, so there is nothing to measure.')
  await keep(moveId, { intake: { at: move.row.intake?.at ?? (await benchNow()), speeds } })
  await note(moveId, 'old drive measured')
}
