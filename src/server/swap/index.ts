import { z } from 'zod'
import { driveName } from '@/bench/places'
import { type StepEffect, swapSteps } from '@/core/swap/steps'
import { changeComputer, placeDrive } from '../bench'
import { benchNow } from '../clock'
import { latestCopy } from '../copy/current'
import { note } from '../logbook'
import { keep, loadMove, type Move, plateOf } from '../move'
import { Refusal } from '../refusal'

/** The steps for this move: those already begun with, or computed for the bench as it is now. */
export function stepsFor(move: Move) {
  if (move.row.swap) return move.row.swap
  const { computer, source, target, bench } = move
  const plate = plateOf(target, bench)
  const steps = swapSteps({
    computerName: computer.name,
    chassis: computer.chassis,
    slotName: computer.homeSlot,
    sourceName: driveName(source),
    targetName: driveName(target),
    targetOutside: plate.inComputer ? undefined : plate.place,
  })
  return { steps, done: [] }
}

export const StepSchema = z.object({ step: z.string().max(40) })

/** Ticks the next step off and does on the bench what the hands did. Steps are done in order. */
export async function finishStep(moveId: string, input: unknown): Promise<void> {
  const { step: id } = StepSchema.parse(input)
  const move = await loadMove(moveId)
  if ((await latestCopy(moveId))?.status !== 'done')
    throw new Refusal('The copy is not done, so nothing is taken apart yet.')
  const { steps, done } = stepsFor(move)
  const next = steps[done.length]
  if (!next) throw new Refusal('All steps are done.')
  if (next.id !== id) throw new Refusal(`The next step is: ${next.title}.`)
  if (next.effect) await effect(move, next.effect)
  await keep(moveId, { swap: { steps, done: [...done, { id, at: await benchNow() }] } })
  await note(moveId, next.short.toLowerCase())
}

async function effect(move: Move, kind: StepEffect): Promise<void> {
  const { computer, source, target } = move
  switch (kind) {
    case 'power-off':
      return changeComputer(computer.id, { running: 'off' })
    case 'mains-out':
      return changeComputer(computer.id, { mains: false, running: 'off' })
    case 'mains-in':
      return changeComputer(computer.id, { mains: true })
    case 'source-out':
      await placeDrive(source.id, { kind: 'shelf' }, { label: `${move.brief.name}, old`, until: '' })
      return
    case 'target-to-hand':
      await placeDrive(target.id, { kind: 'table' })
      return
    case 'target-in':
      await placeDrive(target.id, { kind: 'slot', computerId: computer.id, slot: computer.homeSlot })
  }
}
