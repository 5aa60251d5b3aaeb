import * as z from 'zod'
import type { CopyView } from '@/core/copy/view'
import type { Pace } from '@/core/outside/port'
import type { Lost } from '@/core/copy/progress'
import { berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { launch, send } from '../../copying/launch'
import { leaseFor, orderFor, workerMedium } from '../../copying/order'
import { CopyRow } from '../../database/models'
import { saveAtLast } from '../../database/save-at-last'
import { publish } from '../../ground/events'
import { Refusal } from '../../ground/refusals'
import { type Lease, startWithLease } from '../../leases'
import { loadMove, type Move } from '../../moves'
import { running } from '../../moves/copies'
import { type LegNow, loadLeg, progressOf } from '../../moves/legs'
import { driveUnder } from '../../moves/media'
import { note } from '../../moves/logbook'
import { benchNow, setPace } from '../../world/clock'

/** Reads what a finished copy lost once more. Throws Refusal, nothing written. */
export async function retryLostOf(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  const index = (progress?.copied ?? 0) - 1
  const copy = progress?.copies[index]
  if (!copy?.summary || copy.summary.lost.length === 0) throw new Refusal('copy-lost-nothing')
  if (progress!.copies[index + 1] || (move.row.swap?.phases[index + 1]?.done.length ?? 0) > 0)
    throw new Refusal('copy-drives-moved-since')
  const leg = await loadLeg(move, index)
  // What is in an image has its place by its format, so nothing is put into it afterwards.
  if (leg.to.kind === 'image') throw new Refusal('copy-image-stays')
  for (const drive of [driveUnder(leg.from), leg.to.drive]) {
    if (drive && !berthOf(drive, move.bench).link) throw new Refusal('drive-not-connected', { drive: driveName(drive) })
  }
  const { lost, targetFingerprint: fingerprint } = copy.summary
  await startWithLease(await leaseFor(move, leg, []), (lease) =>
    retryLeased(move, leg, { ...copy, lost, fingerprint }, lease),
  )
}

async function retryLeased(
  move: Move,
  leg: LegNow,
  copy: Pick<CopyView, 'id' | 'choices' | 'progress'> & { lost: readonly Lost[]; fingerprint: string },
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  const order = {
    ...(await orderFor(move, leg, copy.id)),
    task: { kind: 'retry' as const, lost: copy.lost },
    source: workerMedium(leg.from),
    targets: [workerMedium(leg.to, copy.fingerprint)],
    choices: copy.choices,
    resume: { progress: copy.progress },
  }
  await CopyRow.update({ status: 'running' }, { where: { id: copy.id } })
  await launch(move, leg, order, lease)
  await saveAtLast(() => note(moveId, 'lost sectors are read once more'))
}

export const CopyCommandSchema = z.object({
  command: z.enum(['pause', 'resume', 'stop', 'retry-lost']),
})

/** A copy that is told to stop has as long for it. */
const STOP_WITHIN_MS = 60_000

/** Pauses, resumes or stops the running copy of a move, or reads again what one lost. */
export async function commandCopy(moveId: string, input: unknown): Promise<void> {
  const { command } = CopyCommandSchema.parse(input)
  if (command === 'retry-lost') return retryLostOf(moveId)
  const copy = running().get(moveId)
  if (!copy) throw new Refusal('copy-not-running')
  send(copy, { type: command })
  if (command === 'stop') {
    // One that no longer hears is ended from outside; what it copied is as sure as its last checkpoint.
    setTimeout(() => void copy.worker.terminate(), STOP_WITHIN_MS).unref()
    return
  }
  copy.status = command === 'pause' ? 'paused' : 'running'
  if (command === 'resume') {
    // The clock went on meanwhile; what the copy takes counts from here.
    copy.benchStart = (await benchNow()) - copy.benchMilliseconds
  }
  await CopyRow.update({ status: copy.status }, { where: { id: copy.id } })
  await note(moveId, command === 'pause' ? 'copy paused' : 'copy resumed')
  publish({ type: 'changed', moveId })
}

/** Changes the pace of bench time, for what runs now too. */
export async function changePace(value: Pace): Promise<void> {
  if (!provider().hasPace) throw new Refusal('time-is-real')
  await setPace(value)
  for (const copy of running().values()) send(copy, { type: 'pace', pace: value })
  publish({ type: 'changed', moveId: null })
}
