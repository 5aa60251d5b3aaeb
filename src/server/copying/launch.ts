import { unlink } from 'node:fs/promises'
import { Worker } from 'node:worker_threads'
import { formatSize } from '@/core/bytes/size'
import { type CopyProgress, type CopySummary, lostWords } from '@/core/copy/progress'
import { legSeconds } from '@/core/route/timing'
import { CopyRow } from '../database/models'
import type { CopyStatus } from '../database/schemas'
import { publish } from '../ground/events'
import { log } from '../ground/log'
import type { Lease } from '../leases'
import type { Move } from '../moves'
import { running, type Running } from '../moves/copies'
import type { LegNow } from '../moves/legs'
import { note } from '../moves/logbook'
import { changeComputer, onDetach } from '../world'
import { advance, benchNow, keepClock } from '../world/clock'
import type { CopyOrder, FromWorker, ToWorker } from './messages'

/** How often what is seen of a copy is stored, so that it is known after the server was killed. */
const KEEP_EVERY_MS = 1500

/** What a copy that did not end leaves. */
const NOT_DONE = { summary: null, samples: null }
type Left = Pick<Extract<FromWorker, { type: 'done' }>, 'summary' | 'samples'> | typeof NOT_DONE

/** Starts the worker of a copy whose row is there, and takes what it reports until it ends, which ends the lease. */
export async function launch(move: Move, leg: LegNow, order: CopyOrder, lease: Lease): Promise<void> {
  const moveId = move.id
  const id = order.job
  const worker = new Worker(new URL('./copy.worker.ts', import.meta.url), { workerData: order })
  const drives = [order.source.id, ...order.targets.map((t) => t.id)]
  const copy: Running = {
    id,
    moveId,
    drives,
    worker,
    status: 'running',
    progress: order.resume?.progress ?? null,
    benchStart: await benchNow(),
    benchMilliseconds: 0,
    lastKept: 0,
  }
  running().set(moveId, copy)
  const which = leg.of > 1 ? `leg ${leg.index + 1} of ${leg.of}` : 'copy'
  const forget = onDetach((driveId, what) => {
    if (drives.includes(driveId)) tell(copy, { type: 'gone', driveId, what })
  })
  const release = () => {
    forget()
    lease.release()
  }
  let ended = false
  const end = async (
    status: CopyStatus,
    message: string | null,
    { summary, samples }: Left = NOT_DONE,
    goesOn = false,
  ) => {
    if (ended) return
    ended = true
    release()
    const endedAt = Math.round(await benchNow())
    const share = summary && shareOf(order, summary)
    const { progress } = copy
    await CopyRow.update({ status, endedAt, message, summary, samples, share, progress, goesOn }, { where: { id } })
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
        await takeSummary(move, leg, which, message.summary)
        await end('done', null, message)
        // What is whole is not gone on with.
        await unlink(order.journal).catch(() => undefined)
        return
      case 'retried': {
        ended = true
        release()
        const row = await CopyRow.findByPk(id)
        const summary = row?.summary
        if (summary) {
          const { lost, targetFingerprint, samples } = message
          await CopyRow.update(
            { status: 'done', summary: { ...summary, lost: [...lost], targetFingerprint }, samples },
            { where: { id } },
          )
        }
        await note(
          moveId,
          message.wonBytes > 0 ? `${formatSize(message.wonBytes)} of what was lost now read` : 'nothing more reads',
          message.wonBytes > 0 ? 'good' : 'bad',
        )
        running().delete(moveId)
        publish({ type: 'changed', moveId })
        return
      }
      case 'stopped':
        await note(moveId, 'copy stopped by hand', 'bad')
        await end(
          'stopped',
          'You stopped this copy. The target is marked as unfinished and nothing starts from it; the source is untouched.',
          NOT_DONE,
          order.task.kind === 'copy',
        )
        return
      case 'failed':
        await note(moveId, `copy failed: ${message.message}`, 'bad')
        if (order.task.kind === 'retry') await keepDone(copy, release)
        else if (message.goesOn) await end('interrupted', message.message, NOT_DONE, true)
        else {
          await CopyRow.update({ unequal: message.unequal ?? false }, { where: { id } })
          await end('failed', message.message)
        }
    }
  }
  worker.on('message', (message: FromWorker) => {
    queue = queue.then(() => receive(message)).catch((error: unknown) => log.error(error))
  })
  const lost = (error: unknown) => {
    log.error(error)
    queue = queue.then(() =>
      order.task.kind === 'retry'
        ? keepDone(copy, release)
        : end(
            'interrupted',
            'The copy ended unexpectedly. The target is marked as unfinished; the source is untouched.',
            NOT_DONE,
            true,
          ),
    )
  }
  worker.on('error', lost)
  worker.on(
    'exit',
    () =>
      void (queue = queue.then(() => (ended || !running().has(moveId) ? undefined : lost(new Error('worker left'))))),
  )
  publish({ type: 'changed', moveId })
}

/** A pass over lost sectors that did not end leaves the copy as finished as it was. */
async function keepDone(copy: Running, release: () => void): Promise<void> {
  release()
  running().delete(copy.moveId)
  await CopyRow.update({ status: 'done' }, { where: { id: copy.id } })
  publish({ type: 'changed', moveId: copy.moveId })
}

async function takeSummary(move: Move, leg: LegNow, which: string, summary: CopySummary): Promise<void> {
  const equal = summary.checkedBytes > 0 ? 'equal' : 'not read back, as chosen'
  await note(move.id, `${which} done, ${formatSize(summary.copiedBytes)} ${equal}`, 'good')
  if (summary.lost.length > 0) await note(move.id, lostWords(summary.lost), 'bad')
  if (move.row.ready?.whenDone === 'power-off' && leg.index === leg.of - 1) {
    await changeComputer(move.computer.id, { running: 'off' })
    await note(move.id, `${move.computer.name} switched off, as chosen`)
  }
}

/** The share of the rate of its devices and links that a copy reached; of one that was not disturbed. */
function shareOf({ timing, resume }: CopyOrder, summary: CopySummary): number | null {
  const { copiedBytes, checkedBytes, copySeconds, checkSeconds, lost } = summary
  if (resume || lost.length > 0 || copiedBytes === 0) return null
  const nominal = legSeconds(timing, copiedBytes)
  const taken = copySeconds + checkSeconds
  return taken > 0 ? (nominal.copy + (checkedBytes > 0 ? nominal.check : 0)) / taken : null
}

async function takeProgress(copy: Running, message: Extract<FromWorker, { type: 'progress' }>): Promise<void> {
  copy.benchMilliseconds += message.benchMilliseconds
  // The clock goes on by itself, and for other copies too; only what this one took beyond that is added.
  const now = await benchNow()
  await advance(copy.benchStart + copy.benchMilliseconds - now)
  copy.progress = { ...message.progress }
  publish({ type: 'progress', moveId: copy.moveId, progress: message.progress, benchNow: Math.round(await benchNow()) })
  if (performance.now() - copy.lastKept < KEEP_EVERY_MS) return
  copy.lastKept = performance.now()
  await CopyRow.update({ progress: copy.progress as CopyProgress }, { where: { id: copy.id } })
  await keepClock()
}

export function tell(copy: Running, message: ToWorker): void {
  copy.worker.postMessage(message)
}
