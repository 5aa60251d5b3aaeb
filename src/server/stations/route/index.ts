import { z } from 'zod'
import { ACCESSORY_MODELS } from '@/bench/catalogue'
import { obstaclesOf, openingsOf } from '@/core/route/obstacles'
import { findPlans } from '@/core/route/search'
import { legsOf, type Plan } from '@/core/route/types'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { type Accessory, AccessorySchema } from '@/core/things/accessory'
import { driveName } from '@/core/things/drive'
import { sha256 } from '@/host/sha256'
import { Refusal } from '../../ground/refusals'
import { saveStationResults, loadMove, type Move } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { claimedDrives, notYet, questionOf } from '../../moves/question'
import { withDrive } from '../../world'
import { benchNow } from '../../world/clock'

/** Things that could be had, for what one of them would open. */
const AVAILABLE: readonly Accessory[] = Object.entries(ACCESSORY_MODELS).map(([id, model]) =>
  AccessorySchema.parse({ ...model, id: `to-be-had-${id}` }),
)

/** Every route, those that can be carried out first, and what is in the way of others. */
export async function routesOf(move: Move) {
  const question = await questionOf(move)
  const planned = (plan: Plan) => Number(notYet(move, plan) !== null)
  const plans = findPlans(question).sort((a, b) => planned(a) - planned(b))
  return {
    plans,
    obstacles: obstaclesOf(question),
    openings: openingsOf(question, plans, AVAILABLE, (plan) => notYet(move, plan) === null),
  }
}

export const TakeRouteSchema = z.object({ plan: z.string().max(2000) })

/** Takes one of the plans, with the times it has now. What lies on the drives on the way is read. */
export async function takeRoute(moveId: string, input: unknown): Promise<void> {
  const { plan: id } = TakeRouteSchema.parse(input)
  const move = await loadMove(moveId)
  if (!move.row.survey?.confirmed) throw new Refusal('survey-unconfirmed')
  await refuseAfterCopy(moveId)
  const question = await questionOf(move)
  const plan = findPlans(question).find((p) => p.id === id)
  if (!plan) throw new Refusal('route-gone')
  const others = await claimedDrives(move)
  for (const { target } of move.pairs) {
    const by = target && others.get(target.id)
    if (by) throw new Refusal('route-target-taken', { drive: driveName(target), move: by })
  }
  const via: Record<string, DriveSurvey> = {}
  for (const { transfer } of legsOf(plan).legs) {
    const { to } = transfer
    if (to.kind !== 'drive' || move.pairs.some((p) => p.target?.id === to.driveId)) continue
    const drive = move.bench.drives.find((d) => d.id === to.driveId)!
    via[drive.id] = await withDrive(drive, (device) => surveyDrive(device, sha256))
  }
  await saveStationResults(
    moveId,
    { route: { at: await benchNow(), plan, via }, swap: null },
    `route chosen: ${plan.title.toLowerCase()}`,
  )
}
