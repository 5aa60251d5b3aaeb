import { driveIn } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import { loadMove, type Move } from '../../moves'
import { note } from '../../moves/logbook'
import { changeComputer, placeDrive } from '../../world'

/** The two steps from a new drive that does not start back to the old one. */
export interface WayBack {
  readonly steps: readonly { readonly title: string; readonly done: boolean }[]
}

/** Where both drives are on the way back; undefined while the old drive is where it always was. */
export function wayBack(move: Move): WayBack | undefined {
  const places = placesOf(move)
  if (!places) return undefined
  const { computer, slot, source, target, targetIn, sourceIn } = places
  if (sourceIn && !targetIn) return undefined
  return {
    steps: [
      { title: `Mains out, and take the ${driveName(target)} out of the ${computer.name}`, done: !targetIn },
      { title: `Put the ${driveName(source)} back in at ${slot}, mains in`, done: sourceIn },
    ],
  }
}

/** Does the next of the two steps on the bench, as the hands did it. */
export async function goBack(moveId: string): Promise<void> {
  await inTransaction(() => nextStepBack(moveId))
}

async function nextStepBack(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const places = placesOf(move)
  if (!places || !wayBack(move)) throw new Refusal('old-drive-in-place')
  const { computer, slot, source, target, targetIn, sourceIn } = places
  if (targetIn) {
    await changeComputer(computer.id, { running: 'off', mains: false })
    await placeDrive(target.id, { kind: 'table' })
    await note(moveId, `on the way back: ${driveName(target)} out`)
    return
  }
  if (sourceIn) return
  const there = driveIn(move.bench, { kind: 'slot', computerId: computer.id, slot })
  if (there) throw new Refusal('drive-in-place', { drive: driveName(there), place: slot })
  await placeDrive(source.id, { kind: 'slot', computerId: computer.id, slot }, source.shelf)
  await changeComputer(computer.id, { mains: true })
  await note(moveId, `on the way back: ${driveName(source)} in again`)
}

function placesOf({ computer, goal, pairs: [{ source, target }], row }: Move) {
  // A system that goes to another computer leaves the old one as it was.
  if (!target || !row.route || goal?.id !== computer.id) return undefined
  const taken = row.route.plan.actions.find((a) => a.do === 'take' && a.driveId === source.id)
  const slot = taken?.do === 'take' && taken.from.kind === 'slot' ? taken.from.slot : computer.homeSlot
  const isIn = ({ place }: typeof source) => place.kind === 'slot' && place.computerId === computer.id
  return { computer, slot, source, target, targetIn: isIn(target), sourceIn: isIn(source) }
}
