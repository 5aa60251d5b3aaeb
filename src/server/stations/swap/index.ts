import * as z from 'zod'
import { ticked } from '@/core/swap/tray'
import type { BeforeStep, StepEffect } from '@/core/swap/types'
import { placeKey } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { inTransaction } from '../../database/transaction'
import { fitsLocked, hasStarted } from '../../database/notes'
import { Refusal } from '../../ground/refusals'
import { saveStationResults, loadMove, type Move } from '../../moves'
import { running } from '../../moves/copies'
import { phaseToUntick, progressOf, stepsAfterStart, stepsOf } from '../../moves/legs'
import { changeComputer, computerById, driveById, placeDrive } from '../../world'
import { benchNow } from '../../world/clock'
import { findDuplicateDiskIds } from '../../world/computers/duplicate-ids'

export const StepSchema = z.object({ step: z.string().max(120) })
export const TickSchema = StepSchema.extend({
  group: z.number().int().min(0).max(7),
  count: z.number().int().min(0).max(99),
})

/** The step that hands do next, and where its phase is. Throws Refusal when nothing is to be done now. */
async function nextStep(moveId: string, id: string) {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  if (!progress || !fitsLocked(move.row)) throw new Refusal('swap-before-fit')
  if (running().has(moveId)) throw new Refusal('copy-running')
  const left = stepsAfterStart(move, progress)
  if (progress.phase === undefined && left.length === 0) {
    const copiedAll = progress.copied === progress.legs.length
    throw new Refusal(copiedAll ? 'swap-all-done' : 'swap-before-copy')
  }
  if (progress.phase === undefined && !hasStarted(move))
    throw new Refusal('swap-before-start', { step: left[0].title.toLowerCase() })
  const phase = progress.phase ?? progress.legs.length
  const stored = stepsOf(move, progress, phase)
  const next = stored.steps[stored.done.length]
  if (next.id !== id) throw new Refusal('swap-other-step', { step: next.title })
  const phases = progress.hands.map((_, i) => move.row.swap?.phases[i] ?? { steps: [], done: [], ticks: {} })
  return { move, phase, phases, next, ...stored }
}

/** Ticks the next step off and does on the bench what the hands did. Steps are done in order. */
export async function finishStep(moveId: string, input: unknown): Promise<void> {
  const { step } = StepSchema.parse(input)
  await inTransaction(() => tickStep(moveId, step))
}

/** Ticks a step within a change of its move. */
export async function tickStep(moveId: string, id: string): Promise<void> {
  const { move, phase, phases, next, steps, done, ticks } = await nextStep(moveId, id)
  const { done: out, of } = ticked(next, ticks)
  // Who began to tick them one by one wants them all; who did not has done them in one go.
  if (out > 0 && out < of) throw new Refusal('swap-screws-left', { ticked: out, of, way: next.screws?.way ?? '' })
  const before = next.effect && (await beforeStep(next.effect))
  if (next.effect) await effect(move, next.effect)
  phases[phase] = { steps, done: [...done, { id, at: await benchNow(), ...(before ? { before } : {}) }], ticks }
  // Phases before that asked nothing keep an empty list; they are done as they are.
  await saveStationResults(moveId, { swap: { phases } }, next.short.toLowerCase())
}

/** What a step will change of the bench, as it is now. */
async function beforeStep(step: StepEffect): Promise<BeforeStep> {
  if (step.kind === 'take' || step.kind === 'put') {
    const { id, place, shelf } = await driveById(step.driveId)
    return { drive: { id, place, ...(shelf ? { shelf } : {}) } }
  }
  const { id, running: state, mains, batteryOut, firmware } = await computerById(step.computerId)
  return { computer: { id, running: state, mains, batteryOut, secureBoot: firmware.secureBoot } }
}

/** Unticks the step that was ticked last: the bench is as it was before it. Rejects with Refusal where that cannot be. */
export async function untickStep(moveId: string): Promise<void> {
  await inTransaction(() => untick(moveId))
}

async function untick(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  if (running().has(moveId)) throw new Refusal('copy-running')
  const phase = progress && phaseToUntick(move, progress)
  if (phase === undefined) throw new Refusal('swap-nothing-to-untick')
  const phases = [...move.row.swap!.phases]
  const { steps, done, ticks } = phases[phase]
  const last = done.at(-1)!
  const step = steps.find((s) => s.id === last.id)
  if (step?.effect && !last.before) throw new Refusal('swap-before-unknown')
  const { drive, computer } = last.before ?? {}
  if (drive) {
    if (drive.place.kind === 'slot') await refuseLive(drive.place.computerId)
    await placeDrive(drive.id, drive.place, drive.shelf)
  }
  if (computer) {
    const { id, secureBoot, ...state } = computer
    const { firmware } = await computerById(id)
    await changeComputer(id, { ...state, firmware: { ...firmware, secureBoot } })
  }
  const left = Object.fromEntries(Object.entries(ticks).filter(([id]) => id !== last.id))
  phases[phase] = { steps, done: done.slice(0, -1), ticks: left }
  await saveStationResults(moveId, { swap: { phases } }, `unticked: ${(step?.short ?? last.id).toLowerCase()}`)
}

/** Ticks screws of the next step, kind by kind. */
export async function tickScrews(moveId: string, input: unknown): Promise<void> {
  const { step: id, group, count } = TickSchema.parse(input)
  const { phase, phases, next, steps, done, ticks } = await nextStep(moveId, id)
  const groups = next.screws?.groups ?? []
  if (!groups[group] || count > groups[group].count) throw new Refusal('swap-no-screws')
  const counts = groups.map((_, i) => (i === group ? count : (ticks[id]?.[i] ?? 0)))
  phases[phase] = { steps, done, ticks: { ...ticks, [id]: counts } }
  await saveStationResults(moveId, { swap: { phases } })
}

async function effect(move: Move, step: StepEffect): Promise<void> {
  switch (step.kind) {
    case 'power-off':
      return changeComputer(step.computerId, { running: 'off' })
    case 'mains-out':
      return changeComputer(step.computerId, { mains: false, running: 'off' })
    case 'mains-in':
      await refuseTwins(move, step.computerId)
      return changeComputer(step.computerId, { mains: true })
    case 'battery':
      return changeComputer(step.computerId, { batteryOut: step.out, ...(step.out ? { running: 'off' } : {}) })
    case 'secure-boot': {
      const { firmware } = await computerById(step.computerId)
      return changeComputer(step.computerId, { firmware: { ...firmware, secureBoot: step.on } })
    }
    case 'take': {
      const { place } = await driveById(step.driveId)
      // Somebody may have taken it out by hand already.
      if (place.kind === 'shelf' || (place.kind === 'table' && !step.toShelf)) return
      if (place.kind === 'slot') await refuseLive(place.computerId)
      if (step.toShelf) {
        await placeDrive(step.driveId, { kind: 'shelf' }, { label: `${move.brief.name}, old`, until: '' })
      } else await placeDrive(step.driveId, { kind: 'table' })
      return
    }
    case 'put':
      // One that is seen where it goes is there.
      if (placeKey((await driveById(step.driveId)).place) === placeKey(step.into)) return
      if (step.into.kind === 'slot') await refuseLive(step.into.computerId)
      await placeDrive(step.driveId, step.into)
  }
}

/** Nobody reaches into a computer that has power. */
async function refuseLive(computerId: string): Promise<void> {
  const { name, running: state, mains, chassis, batteryOut } = await computerById(computerId)
  if (state !== 'off') throw new Refusal('swap-running', { computer: name })
  if (mains) throw new Refusal('swap-mains-in', { computer: name })
  if (chassis.hasBattery && !batteryOut) throw new Refusal('swap-battery-in', { computer: name })
}

/** Two drives of one identity are never given power together. */
async function refuseTwins({ bench }: Move, computerId: string): Promise<void> {
  const inside = bench.drives.filter(({ place }) => place.kind === 'slot' && place.computerId === computerId)
  const twins = await findDuplicateDiskIds(inside)
  if (!twins) return
  const { name } = await computerById(computerId)
  throw new Refusal('swap-twins', { drive: driveName(twins[0]), twin: driveName(twins[1]), computer: name })
}
