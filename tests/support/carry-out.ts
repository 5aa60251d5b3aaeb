import type { CopyView } from '@/core/copy/view'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { latestCopy } from '@/server/moves/copies'
import { loadLeg, progressOf, stepsOf } from '@/server/moves/legs'
import { driveUnder } from '@/server/moves/media'
import { movePage } from '@/server/moves/page'
import { lockFit } from '@/server/stations/fit'
import { confirmIntake } from '@/server/stations/intake'
import { startTrial } from '@/server/stations/proof'
import { readyAction, readyState } from '@/server/stations/ready'
import { startCopy } from '@/server/stations/ready/start'
import { takeRoute } from '@/server/stations/route'
import { confirmSurvey, readDrives } from '@/server/stations/survey'
import { finishStep } from '@/server/stations/swap'
import * as views from '@/server/stations/testing'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'

/** Takes a move in and reads its drives, up to where a route is chosen. */
export async function toRoute(move: string): Promise<void> {
  await ended(confirmIntake(move))
  await ended(readDrives(move))
  await confirmSurvey(move)
}

export const plansOf = async (move: string) => (await views.routeView(await movePage(move))).plans

/** Takes a route and carries all of it out by hand, as its stations ask, to the start of the new computer. */
export async function carryOut(moveId: string, plan: string) {
  await takeRoute(moveId, { plan })
  const { pairs } = (await loadMove(moveId)).row.survey!
  for (const pair of pairs.keys()) await lockFit(moveId, { pair, wish: { rules: {}, sizes: {}, reserve: 0 } })
  const copies: CopyView[] = []
  for (;;) {
    const move = await loadMove(moveId)
    const progress = (await progressOf(move.row))!
    if (progress.phase !== undefined) {
      const { steps, done } = stepsOf(move, progress, progress.phase)
      await finishStep(moveId, { step: steps[done.length].id })
      continue
    }
    if (progress.copied === progress.legs.length) break
    copies.push(await copyLeg(moveId))
  }
  const trial = await ended(startTrial(moveId))
  void trial
  return { copies, trial: (await loadMove(moveId)).row.proof!.trials.at(-1)! }
}

/** Settles what Ready asks for, copies the leg that is next, and gives what it came to. */
export async function copyLeg(moveId: string): Promise<CopyView> {
  for (let tries = 0; ; tries++) {
    const move = await loadMove(moveId)
    const leg = await loadLeg(move)
    const ready = await readyState(move, leg)
    const item = ready.items.find((i) => i.state !== 'settled')
    if (!item) {
      const plate = driveUnder(leg.to)?.serial.slice(-PLATE_CHARACTERS) ?? ''
      await startCopy(moveId, { plate, seen: ready.seen })
      return await copyEnd(moveId, leg.index)
    }
    if (tries > 40) throw new Error(`Not ready: ${item.title} ${item.why}`)
    if (item.action) await readyAction(moveId, { action: item.action.id, of: item.action.of })
    else await readyAction(moveId, { action: 'skip', item: item.id, reason: 'as it has to be here' })
  }
}

export async function copyEnd(moveId: string, leg: number): Promise<CopyView> {
  for (;;) {
    const copy = (await latestCopy(moveId, leg))!
    if (copy.status !== 'running' && copy.status !== 'paused') {
      if (copy.status !== 'done') throw new Error(`${copy.status}: ${copy.message}`)
      return copy
    }
    await new Promise((resolve) => setTimeout(resolve, 20))
  }
}
