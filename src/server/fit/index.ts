import { z } from 'zod'
import { solveFit } from '@/core/fit/solve'
import { FitWishSchema } from '@/core/fit/types'
import { driveName } from '@/core/things/drive'
import { benchNow } from '../clock'
import { note } from '../logbook'
import { keep, loadMove, obstacleOf } from '../move'
import { Refusal } from '../refusal'
import { refuseAfterCopy } from '../copy/current'

export const LockFitSchema = z.object({ wish: FitWishSchema, pair: z.number().int().nonnegative().default(0) })

/** Solves the fit of one drive with these rules once more and locks what comes out; Copy writes that. */
export async function lockFit(moveId: string, input: unknown): Promise<void> {
  const { wish, pair } = LockFitSchema.parse(input)
  const move = await loadMove(moveId)
  const { row } = move
  if (!row.survey || !row.route) throw new Refusal('Choose a route first.')
  const obstacle = obstacleOf(move)
  if (obstacle) throw new Refusal(obstacle)
  await refuseAfterCopy(moveId)
  const survey = row.survey.pairs.at(pair)
  if (!survey?.target) throw new Refusal('There is no such drive in this move, or it has no target drive.')
  const result = solveFit(survey.source, survey.target, wish)
  if (!result.fits) throw new Refusal(result.obstacles[0].sentence)
  const { layout, headline, reason } = result
  const fits = row.survey.pairs.map((_, i) => row.fit?.pairs[i] ?? null)
  fits[pair] = { at: await benchNow(), wish, layout, headline, reason }
  await keep(moveId, { fit: { pairs: fits } })
  const which = move.pairs.length > 1 ? ` of the ${driveName(move.pairs[pair].source)}` : ''
  await note(moveId, `fit${which} locked`)
}

/** Lets the fits go, so that they can be changed. */
export async function unlockFit(moveId: string): Promise<void> {
  await loadMove(moveId)
  await refuseAfterCopy(moveId)
  await keep(moveId, { fit: null })
  await note(moveId, 'fit unlocked')
}
