import { z } from 'zod'
import { solveFit } from '@/core/fit/solve'
import { FitWishSchema } from '@/core/fit/types'
import { benchNow } from '../clock'
import { note } from '../logbook'
import { keep, loadMove } from '../move'
import { Refusal } from '../refusal'
import { refuseAfterCopy } from '../copy/current'

export const LockFitSchema = z.object({ wish: FitWishSchema })

/** Solves the fit with these rules once more and locks what comes out; Copy writes that. */
export async function lockFit(moveId: string, input: unknown): Promise<void> {
  const { wish } = LockFitSchema.parse(input)
  const { row } = await loadMove(moveId)
  if (!row.survey || !row.route) throw new Refusal('Choose a route first.')
  await refuseAfterCopy(moveId)
  const result = solveFit(row.survey.source, row.survey.target, wish)
  if (!result.fits) throw new Refusal(result.obstacles[0].sentence)
  const { layout, headline, reason } = result
  await keep(moveId, { fit: { at: await benchNow(), wish, layout, headline, reason } })
  await note(moveId, 'fit locked')
}

/** Lets the fit go, so that it can be changed. */
export async function unlockFit(moveId: string): Promise<void> {
  await loadMove(moveId)
  await refuseAfterCopy(moveId)
  await keep(moveId, { fit: null })
  await note(moveId, 'fit unlocked')
}
