import type { CopyView } from '@/core/copy/view'
import { defaultWish } from '@/core/fit/solve'
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

/** Takes the route that is offered first. */
export async function takeFirstRoute(move: string): Promise<void> {
  await takeRoute(move, { plan: (await plansOf(move))[0].id })
}

/** Locks for each drive what its page begins with. */
export async function lockByDefault(move: string): Promise<void> {
  const { pairs } = (await loadMove(move)).row.survey!
  for (const [pair, { source }] of pairs.entries()) await lockFit(move, { pair, wish: defaultWish(source) })
}

/** Takes a route and carries all of it out by hand, as its stations ask, to the start of the new computer. */
export async function carryOut(moveId: string, plan: string) {
  await takeRoute(moveId, { plan })
  const { pairs } = (await loadMove(moveId)).row.survey!
  for (const pair of pairs.keys()) await lockFit(moveId, { pair, wish: { rules: {}, sizes: {}, reserve: 0 } })
  return carryOn(moveId)
}

/** What is left of a move, to the start of the new computer. */
export async function carryOn(moveId: string) {
  const copies: CopyView[] = []
  for (;;) {
    await handsTo(moveId)
    const progress = (await progressOf((await loadMove(moveId)).row))!
    if (progress.copied === progress.legs.length) break
    copies.push(await copyLeg(moveId))
  }
  await ended(startTrial(moveId))
  return { copies, trial: (await loadMove(moveId)).row.proof!.trials.at(-1)! }
}

/** Ticks every step of the hands that comes before the next copy, or after the last. */
export async function handsTo(moveId: string): Promise<void> {
  for (;;) {
    const move = await loadMove(moveId)
    const progress = (await progressOf(move.row))!
    if (progress.phase === undefined) return
    const { steps, done } = stepsOf(move, progress, progress.phase)
    await finishStep(moveId, { step: steps[done.length].id })
  }
}

/** Settles what Ready asks for, copies the leg that is next, and gives what it came to. */
export async function copyLeg(moveId: string): Promise<CopyView> {
  return copyEnd(moveId, await startLeg(moveId))
}

/** The same up to its start; gives which leg it is. */
export async function startLeg(moveId: string): Promise<number> {
  const { leg, seen } = await settleLeg(moveId)
  await startCopy(moveId, { plate: driveUnder(leg.to)?.serial.slice(-PLATE_CHARACTERS) ?? '', seen })
  return leg.index
}

/** Puts drives where the next copy needs them, and settles all of its list but the plate. */
export async function settleList(moveId: string): Promise<void> {
  await handsTo(moveId)
  await settleLeg(moveId)
}

async function settleLeg(moveId: string) {
  for (let tries = 0; ; tries++) {
    const move = await loadMove(moveId)
    const leg = await loadLeg(move)
    const ready = await readyState(move, leg)
    const item = ready.items.find((i) => i.state !== 'settled')
    if (!item) return { leg, seen: ready.seen }
    if (tries > 40) throw new Error(`Not ready: ${item.title} ${item.why}`)
    if (item.action) await readyAction(moveId, { action: item.action.id, of: item.action.of })
    else await readyAction(moveId, { action: 'skip', item: item.id, reason: 'as it has to be here' })
  }
}

/** A copy once it does not run any more. */
export async function copyEnds(moveId: string, leg: number): Promise<CopyView> {
  return when(moveId, leg, (copy) => copy.status !== 'running' && copy.status !== 'paused')
}

/** A running copy once something of it is copied. */
export async function untilCopied(moveId: string, leg: number): Promise<CopyView> {
  return when(moveId, leg, (copy) => (copy.progress?.copiedBytes ?? 0) > 0)
}

/** A copy that came to its end. */
export async function copyEnd(moveId: string, leg: number): Promise<CopyView> {
  const copy = await copyEnds(moveId, leg)
  if (copy.status !== 'done') throw new Error(`${copy.status}: ${copy.message}`)
  return copy
}

async function when(moveId: string, leg: number, is: (copy: CopyView) => boolean): Promise<CopyView> {
  for (;;) {
    // Of drives that are copied together the later ones have no copy yet.
    const copy = await latestCopy(moveId, leg)
    if (copy && is(copy)) return copy
    await new Promise((resolve) => setTimeout(resolve, 20))
  }
}
