import { z } from 'zod'
import type { StepEffect } from '@/core/swap/steps'
import { changeComputer, computerById, driveById, placeDrive } from '../bench'
import { benchNow } from '../clock'
import { running } from '../copy/current'
import { note } from '../logbook'
import { fitsLocked, keep, loadMove, type Move } from '../move'
import { type Progress, progressOf, stepsOf } from '../move/legs'
import { Refusal } from '../refusal'

/** The phase of the hands that Swap shows: the one that is next, else the last that was done. */
export function phaseNow({ phase, copied, legs }: Progress): number {
  return phase ?? Math.min(copied, legs.length)
}

export const StepSchema = z.object({ step: z.string().max(120) })

/** Ticks the next step off and does on the bench what the hands did. Steps are done in order. */
export async function finishStep(moveId: string, input: unknown): Promise<void> {
  const { step: id } = StepSchema.parse(input)
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  if (!progress || !fitsLocked(move.row)) throw new Refusal('Lock a fit first; nothing is taken apart before.')
  if (running().has(moveId)) throw new Refusal('A copy is running; its drives stay where they are.')
  if (progress.phase === undefined) {
    const copiedAll = progress.copied === progress.legs.length
    throw new Refusal(copiedAll ? 'All steps are done.' : 'The copy is not done, so nothing is taken apart yet.')
  }
  const { phase } = progress
  const { steps, done } = stepsOf(move, progress, phase)
  const next = steps[done.length]
  if (next.id !== id) throw new Refusal(`The next step is: ${next.title}.`)
  if (next.effect) await effect(move, next.effect)
  const phases = progress.hands.map((_, i) => move.row.swap?.phases[i] ?? { steps: [], done: [] })
  phases[phase] = { steps, done: [...done, { id, at: await benchNow() }] }
  // Phases before that asked nothing keep an empty list; they are done as they are.
  await keep(moveId, { swap: { phases } })
  await note(moveId, next.short.toLowerCase())
}

async function effect(move: Move, step: StepEffect): Promise<void> {
  switch (step.kind) {
    case 'power-off':
      return changeComputer(step.computerId, { running: 'off' })
    case 'mains-out':
      return changeComputer(step.computerId, { mains: false, running: 'off' })
    case 'mains-in':
      return changeComputer(step.computerId, { mains: true })
    case 'secure-boot': {
      const { firmware } = await computerById(step.computerId)
      return changeComputer(step.computerId, { firmware: { ...firmware, secureBoot: step.on } })
    }
    case 'take': {
      const { place } = await driveById(step.driveId)
      // Somebody may have taken it out by hand already.
      if (place.kind === 'table' || place.kind === 'shelf') return
      if (step.toShelf) {
        await placeDrive(step.driveId, { kind: 'shelf' }, { label: `${move.brief.name}, old`, until: '' })
      } else await placeDrive(step.driveId, { kind: 'table' })
      return
    }
    case 'put':
      await placeDrive(step.driveId, step.into)
  }
}
