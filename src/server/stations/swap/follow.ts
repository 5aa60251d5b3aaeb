import type { StepEffect, SwapStep } from '@/core/swap/types'
import { placeKey } from '@/core/things/bench'
import type { Drive } from '@/core/things/drive'
import { fitsLocked } from '../../database/notes'
import { inTransaction } from '../../database/transaction'
import { log } from '../../ground/log'
import { inMoveQueue } from '../../ground/queue'
import { loadMove, type Move } from '../../moves'
import { moveClaims } from '../../moves/claims'
import { running } from '../../moves/copies'
import { progressOf, stepsOf } from '../../moves/legs'
import { activeBench } from '../../world'
import { onSeenMoved } from '../../world/seen'
import { tickStep } from '.'

/** Has steps ticked that are seen to be done, as drives of this computer come and go. */
export function followSeenDrives(): void {
  onSeenMoved(async (drive) => {
    const { id } = await activeBench()
    for (const claim of await moveClaims(id)) {
      if (claim.handedOver || claim.putOff) continue
      const isOfIt = claim.pairs.some((p) => [p.sourceId, p.targetId].includes(drive.id))
      if (!isOfIt) continue
      await inMoveQueue(claim.id, () => inTransaction(() => follow(claim.id))).catch((error: unknown) =>
        log.warn({ move: claim.id, err: error }, 'a step that was seen was not ticked'),
      )
    }
  })
}

async function follow(moveId: string): Promise<void> {
  for (;;) {
    const move = await loadMove(moveId)
    const progress = await progressOf(move.row)
    if (!progress || progress.phase === undefined || !fitsLocked(move.row) || running().has(moveId)) return
    const { steps, done } = stepsOf(move, progress, progress.phase)
    const [next, ...later] = steps.slice(done.length)
    if (!next || !isSeenDone(next, later, move)) return
    await tickStep(moveId, next.id)
  }
}

/**
 * True where a step is seen to be done: a drive is gone from where it was, or where it goes; and at the computer that
 * Imbarco runs on all that comes before such a step, since that runs again by now.
 */
function isSeenDone(step: SwapStep, later: readonly SwapStep[], move: Move): boolean {
  const seen = step.effect && seenOf(step.effect, move)
  if (seen !== undefined) return seen
  const isHere = move.bench.computers.find((c) => c.id === step.computerId)?.isThis === true
  if (!isHere || step.place === 'dock') return false
  return later.some(({ computerId, effect }) => {
    return computerId === step.computerId && effect !== undefined && seenOf(effect, move) === true
  })
}

/** Whether a drive of this computer is where an effect has it; undefined where that is not seen. */
function seenOf(effect: StepEffect, { bench }: Move): boolean | undefined {
  if (effect.kind !== 'take' && effect.kind !== 'put') return undefined
  const drive: Drive | undefined = bench.drives.find((d) => d.id === effect.driveId)
  if (!drive?.kernel) return undefined
  if (effect.kind === 'take') return drive.kernel.path === null
  if (drive.kernel.path !== null) return placeKey(drive.place) === placeKey(effect.into)
  // What goes into another computer is said.
  return undefined
}
