import { Worker } from 'node:worker_threads'
import { formatSize } from '@/core/bytes/size'
import { plateMatches } from '@/core/ready/plate-check'
import { legSeconds } from '@/core/route/timing'
import { type Drive, driveName } from '@/core/things/drive'
import { z } from 'zod'
import { changeComputer, driveBytes, onDetach } from '../bench'
import { advance, benchNow, keepClock, pace, setPace } from '../clock'
import { CopyRow } from '../database/models'
import { type CopySummary, lostWords } from '@/core/copy/progress'
import type { CopyStatus } from '../database/schemas'
import { publish } from '../events'
import { log } from '../log'
import { note } from '../logbook'
import { fitsLocked, loadMove, type Move } from '../move'
import { type LegNow, loadLeg, progressOf } from '../move/legs'
import { copyNote, readyState } from '../ready'
import { Refusal } from '../refusal'
import { recover, running, type Running } from './current'
import type { CopyOrder, FromWorker, ToWorker, WorkerDrive } from './messages'

export const StartCopySchema = z.object({ plate: z.string().max(40) })

/** Starts the copy of a move. Throws Refusal, nothing written, unless everything on the list is settled and the plate matches. */
export async function startCopy(moveId: string, input: unknown): Promise<void> {
  const { plate } = StartCopySchema.parse(input)
  await recover()
  const move = await loadMove(moveId)
  if (running().has(moveId)) throw new Refusal('This copy is running already.')
  if (!fitsLocked(move.row) || !move.row.route)
    throw new Refusal('There is no locked fit to copy by. Lock it in Fit first.')
  const progress = (await progressOf(move.row))!
  if (progress.copied === progress.legs.length)
    throw new Refusal('All legs of this move are copied. It is not copied again.')
  const leg = await loadLeg(move)
  if (leg.from.id === leg.to.id) throw new Refusal('Source and target are the same drive. Nothing was written.')
  for (const other of running().values()) {
    if (other.drives.some((id) => id === leg.to.id || id === leg.from.id)) {
      throw new Refusal('One of these drives is in use by another copy. Nothing was written.')
    }
  }
  const ready = await readyState(move, leg)
  if (ready.open > 0) {
    const first = ready.items[0]
    throw new Refusal(`It may not start yet: ${first.title} ${first.why}. Nothing was written.`)
  }
  if (!plateMatches(leg.to.serial, plate)) {
    throw new Refusal(`These are not the last four characters on the ${driveName(leg.to)}. Nothing was written.`)
  }
  const order: CopyOrder = {
    source: workerDrive(leg.from),
    target: workerDrive(leg.to),
    layout: leg.layout,
    timing: leg.transfer.timing,
    note: copyNote(move, leg),
    pace: await pace(),
    targetFingerprint: ready.targetFingerprint,
    sourceFingerprint: ready.sourceFingerprint,
  }
  await launch(move, leg, order)
}

export const CopyCommandSchema = z.object({ command: z.enum(['pause', 'resume', 'stop']) })

/** Pauses, resumes or stops the running copy of a move. */
export async function commandCopy(moveId: string, input: unknown): Promise<void> {
  const { command } = CopyCommandSchema.parse(input)
  const copy = running().get(moveId)
  if (!copy) throw new Refusal('No copy of this move is running.')
  tell(copy, { type: command })
  if (command === 'stop') return
  copy.status = command === 'pause' ? 'paused' : 'running'
  await CopyRow.update({ status: copy.status }, { where: { id: copy.id } })
  await note(moveId, command === 'pause' ? 'copy paused' : 'copy goes on')
  publish({ type: 'changed', moveId })
}

/** Changes the pace of bench time, for what runs now too. */
export async function changePace(value: '1' | '30' | 'max'): Promise<void> {
  await setPace(value)
  for (const copy of running().values()) tell(copy, { type: 'pace', pace: value })
  publish({ type: 'changed', moveId: null })
}

async function launch(move: Move, leg: LegNow, order: CopyOrder): Promise<void> {
  const moveId = move.id
  const startedAt = Math.round(await benchNow())
  const id = `${moveId}-${leg.index}-${startedAt}`
  const worker = new Worker(new URL('./copy.worker.ts', import.meta.url), { workerData: order })
  const drives = [leg.from.id, leg.to.id]
  const copy: Running = { id, moveId, drives, worker, status: 'running', progress: null, lastReport: performance.now() }
  running().set(moveId, copy)
  await CopyRow.create({
    id,
    moveId,
    leg: leg.index,
    way: leg.transfer.way,
    share: null,
    status: 'running',
    startedAt,
    endedAt: null,
    message: null,
    progress: null,
    summary: null,
  })
  const which = leg.of > 1 ? `leg ${leg.index + 1} of ${leg.of}` : 'copy'
  await note(moveId, `${which} started, ${driveName(leg.from)} to ${driveName(leg.to)}`)
  const release = onDetach((driveId, what) => {
    if (driveId === order.source.id || driveId === order.target.id) tell(copy, { type: 'gone', driveId, what })
  })
  let ended = false
  const end = async (status: CopyStatus, message: string | null, summary: CopySummary | null) => {
    if (ended) return
    ended = true
    release()
    const endedAt = Math.round(await benchNow())
    const share = summary && shareOf(order, summary)
    await CopyRow.update({ status, endedAt, message, summary, share, progress: copy.progress }, { where: { id } })
    running().delete(moveId)
    await keepClock()
    publish({ type: 'changed', moveId })
  }
  // Reports are taken one after the other, so that the logbook keeps their order.
  let queue = Promise.resolve()
  const receive = async (message: FromWorker) => {
    switch (message.type) {
      case 'progress':
        await takeProgress(copy, message)
        return
      case 'note':
        await note(moveId, message.text, message.tone)
        publish({ type: 'changed', moveId })
        return
      case 'done':
        await note(moveId, `${which} done, ${formatSize(message.summary.copiedBytes)} equal`, 'good')
        if (message.summary.lost.length > 0) await note(moveId, lostWords(message.summary.lost), 'bad')
        await end('done', null, message.summary)
        if (move.row.ready?.whenDone === 'power-off' && leg.index === leg.of - 1) {
          await changeComputer(move.computer.id, { running: 'off' })
          await note(moveId, `${move.computer.name} switched off, as chosen`)
        }
        return
      case 'stopped':
        await note(moveId, 'copy stopped by hand', 'bad')
        await end(
          'stopped',
          'You stopped this copy. The target is marked as unfinished and nothing starts from it; the source is untouched. Start the copy over.',
          null,
        )
        return
      case 'failed':
        await note(moveId, `copy failed: ${message.message}`, 'bad')
        await end('failed', message.message, null)
    }
  }
  worker.on('message', (message: FromWorker) => {
    queue = queue.then(() => receive(message)).catch((error: unknown) => log.error(error))
  })
  const lost = (error: unknown) => {
    log.error(error)
    queue = queue.then(() =>
      end('failed', 'The copy ended unexpectedly. The target is marked as unfinished; the source is untouched.', null),
    )
  }
  worker.on('error', lost)
  worker.on('exit', () => void (queue = queue.then(() => (ended ? undefined : lost(new Error('worker left'))))))
  publish({ type: 'changed', moveId })
}

/** The share of the rate of its devices and links that a copy reached. */
function shareOf({ timing }: CopyOrder, { copiedBytes, copySeconds, checkSeconds }: CopySummary): number | null {
  const nominal = legSeconds(timing, copiedBytes)
  const taken = copySeconds + checkSeconds
  return copiedBytes > 0 && taken > 0 ? (nominal.copy + nominal.check) / taken : null
}

async function takeProgress(copy: Running, message: Extract<FromWorker, { type: 'progress' }>): Promise<void> {
  const now = performance.now()
  // Real time moves the clock by itself; only what the model took beyond it is added.
  await advance(message.benchMilliseconds - (now - copy.lastReport))
  copy.lastReport = now
  copy.progress = message.progress
  publish({ type: 'progress', moveId: copy.moveId, progress: message.progress, benchNow: Math.round(await benchNow()) })
}

function tell(copy: Running, message: ToWorker): void {
  copy.worker.postMessage(message)
}

function workerDrive(drive: Drive): WorkerDrive {
  return { id: drive.id, ...driveBytes(drive) }
}
