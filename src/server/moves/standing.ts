import * as z from 'zod'
import { line } from '@/core/words-schema'
import { MoveRow } from '../database/models'
import { publish } from '../ground/events'
import { Refusal } from '../ground/refusals'
import { runningJobs, stopJob } from '../jobs'
import { benchNow } from '../world/clock'
import { moveRow } from '.'
import { forgetCutOff, latestCopy } from './copies'
import { type LogWords, storeWithNote } from './logbook'

// A move has an end besides its handover: it can be put off and taken up again, or given up at any station.

export const NamesSchema = z.object({
  name: line().trim().min(1, 'Give it a name').max(80),
  customer: line().trim().min(1, 'Say whose it is').max(80),
})
export const WhySchema = z.object({ why: line().trim().min(3, 'Say in a few words why').max(300) })

/** Gives a move another name or customer; at any station, until it is handed over. */
export async function renameMove(moveId: string, input: unknown): Promise<void> {
  const names = NamesSchema.parse(input)
  const { brief, handover } = await moveRow(moveId)
  if (handover) throw new Refusal('move-handed-over')
  const copy = await latestCopy(moveId)
  // By its name the target of an unfinished copy is known to be this move's.
  if (copy && (copy.resumable || copy.status === 'running' || copy.status === 'paused'))
    throw new Refusal('move-name-in-use')
  const rename = () => MoveRow.update({ brief: { ...brief, ...names } }, { where: { id: moveId } })
  await storeWithNote(moveId, rename, `renamed: ${names.name}, ${names.customer}`)
  publish({ type: 'changed', moveId: null })
}

/** Lays a move aside until somebody takes it up again. Its drives stay its own. */
export async function putOffMove(moveId: string, input: unknown): Promise<void> {
  const { why } = WhySchema.parse(input)
  await refuseUnderway(moveId)
  await lay(moveId, { kind: 'put-off', at: await benchNow(), why }, `put off: ${why}`)
}

/** Takes up a move that was put off. */
export async function takeUpMove(moveId: string): Promise<void> {
  const { standing } = await moveRow(moveId)
  if (standing?.kind !== 'put-off') throw new Refusal('move-not-put-off')
  await lay(moveId, null, 'taken up again')
}

/**
 * Ends a move for good, at whatever station it is. Its drives are free for others; nothing is written, and what lies
 * somewhere stays there. A target with an unfinished copy stays marked, and cannot be resumed any more.
 */
export async function giveUpMove(moveId: string, input: unknown): Promise<void> {
  const { why } = WhySchema.parse(input)
  await refuseUnderway(moveId)
  for (const job of runningJobs(moveId)) if (job.stoppable) stopJob(job.id)
  const line = { text: `given up: ${why}`, tone: 'bad' } as const
  await lay(moveId, { kind: 'given-up', at: await benchNow(), why }, line)
  await forgetCutOff(moveId)
}

async function refuseUnderway(moveId: string): Promise<void> {
  const { handover, standing } = await moveRow(moveId)
  if (handover) throw new Refusal('move-handed-over')
  if (standing?.kind === 'given-up') throw new Refusal('move-given-up')
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') throw new Refusal('copy-running')
}

async function lay(moveId: string, standing: MoveRow['standing'], line: LogWords): Promise<void> {
  await storeWithNote(moveId, () => MoveRow.update({ standing }, { where: { id: moveId } }), line)
  publish({ type: 'changed', moveId: null })
}
