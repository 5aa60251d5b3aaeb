import { unlink } from 'node:fs/promises'
import { Worker } from 'node:worker_threads'
import { formatSize } from '@/core/bytes/size'
import { type CopyProgress, type CopySummary, lostWords } from '@/core/copy/progress'
import type { CopyStatus } from '@/core/copy/view'
import { legSeconds } from '@/core/route/timing'
import { CopyRow, progressOnly } from '../database/models'
import { saveAtLast } from '../database/save-at-last'
import { publish } from '../ground/events'
import { log } from '../ground/log'
import { Refusal } from '../ground/refusals'
import type { Lease } from '../leases'
import { type Move, moveRow, saveStationResults } from '../moves'
import { beginCopy, type CopyEnd, letGoOfSameMoment, running, type Running, saveCopyEnd } from '../moves/copies'
import type { LegNow } from '../moves/legs'
import { addDisk } from '../moves/machine'
import { note } from '../moves/logbook'
import { changeComputer, onDetach } from '../world'
import { advance, benchNow, keepClock } from '../world/clock'
import type { CopyOrder, CopyPart, FromWorker, LetStarted, ToWorker } from './messages'

/** How often what is seen of a copy is stored, so that it is known after the server was killed. */
const KEEP_EVERY_MS = 1500

/**
 * Starts the thread of a copy whose row is there, and takes what it reports until it ends, which ends the lease. Rejects,
 * with the row ended too, where the thread cannot be started.
 */
export async function launch(
  move: Move,
  first: LegNow,
  order: CopyOrder,
  lease: Lease,
  rest: readonly LegNow[] = [],
): Promise<void> {
  const moveId = move.id
  // Of several drives that are copied together each has a row of its own, from when it is its turn.
  const turns = [{ leg: first, part: order as CopyPart }, ...rest.map((leg, i) => ({ leg, part: order.rest![i] }))]
  let turn = 0
  const isRetry = order.task.kind === 'retry'
  const worker = await startThread(order, isRetry)
  const drives = turns.flatMap(({ part }) => [part.source.id, ...part.targets.map((t) => t.id)])
  const copy: Running = {
    id: order.job,
    moveId,
    drives,
    worker,
    status: 'running',
    progress: order.resume?.progress ?? null,
    waitsFor: null,
    benchStart: await benchNow(),
    benchMilliseconds: 0,
    lastKept: 0,
  }
  running().set(moveId, copy)
  const whichOf = ({ index, of }: LegNow) => (of > 1 ? `leg ${index + 1} of ${of}` : 'copy')
  const tell = (text: string, tone?: 'plain' | 'good' | 'bad') => saveAtLast(() => note(moveId, text, tone))
  const forget = onDetach((driveId, what) => {
    if (drives.includes(driveId)) send(copy, { type: 'gone', driveId, what })
  })
  let ended = false
  const end = async (how: CopyEnd, alongside?: () => Promise<void>) => {
    if (ended) return
    ended = true
    forget()
    lease.release()
    // What was copied with it is of one moment only when all of it is whole.
    if (how.status !== 'done') await saveAtLast(() => letGoOfSameMoment({ id: copy.id, moveId }))
    // From here on its end is told in its place, with nothing in between.
    running().delete(moveId)
    await saveCopyEnd(copy.id, { ...how, progress: copy.progress }, alongside)
    await keepClock().catch((error: unknown) => log.error(error))
    publish({ type: 'changed', moveId })
  }
  /** It did not come to its end. A pass over lost sectors leaves the copy as finished as it was. */
  const cut = async (status: CopyStatus, { text, message, ...left }: { text?: string; message: string } & CopyEnd) => {
    const line = text === undefined ? undefined : () => note(moveId, text, 'bad')
    if (isRetry) return end({ status: 'done' }, line)
    const endedAt = Math.round(await benchNow())
    return end({ status, message, endedAt, summary: null, samples: null, ...left }, line)
  }
  /** The next of several drives that are copied together. */
  const next = async () => {
    const { leg, part } = turns[++turn]
    const startedAt = Math.round(await benchNow())
    const { linkKey } = leg.transfer
    await saveAtLast(() =>
      beginCopy({ id: part.job, moveId, leg: leg.index, linkKey, startedAt, choices: order.choices }),
    )
    Object.assign(copy, { id: part.job, progress: null, benchStart: await benchNow(), benchMilliseconds: 0 })
    await tell(`${whichOf(leg)} started, of the same moment`)
    publish({ type: 'changed', moveId })
  }
  const receive = async (message: FromWorker) => {
    switch (message.type) {
      case 'progress':
        return takeProgress(copy, message)
      case 'waits':
        copy.waitsFor = message.why
        return publish({ type: 'changed', moveId })
      case 'note':
        await tell(message.text, message.tone)
        return publish({ type: 'changed', moveId })
      case 'done': {
        const { summary, samples, started } = message
        const { leg, part } = turns[turn]
        const how = {
          ...{ status: 'done' as const, message: null, endedAt: Math.round(await benchNow()) },
          ...{ summary, samples, throughputRatio: throughputRatioOf({ ...order, ...part }, summary), resumable: false },
        }
        const take = async () => {
          await takeSummary(move, leg, whichOf(leg), summary)
          if (started) await takeStarted(move, part, started)
        }
        if (turn === turns.length - 1) await end(how, take)
        else {
          await saveCopyEnd(copy.id, { ...how, progress: copy.progress }, take)
          await next()
        }
        // What is whole is not resumed.
        const { put } = part
        for (const file of [
          part.journal,
          ...(put ? [put.entryFile, put.tableFile, put.roomFile, `${put.roomFile}.kept`] : []),
        ])
          await unlink(file).catch(() => undefined)
        return
      }
      case 'retried': {
        const { lost, targetFingerprint, samples, wonBytes } = message
        const summary = (await CopyRow.findByPk(copy.id))?.summary
        const read = summary ? { summary: { ...summary, lost: [...lost], targetFingerprint }, samples } : {}
        return end({ status: 'done', ...read }, () =>
          wonBytes > 0
            ? note(moveId, `${formatSize(wonBytes)} of what was lost now read`, 'good')
            : note(moveId, 'nothing more reads', 'bad'),
        )
      }
      case 'stopped':
        return cut('stopped', {
          text: 'copy stopped by hand',
          message:
            'You stopped this copy. The target is marked as unfinished and nothing starts from it; the source is untouched.',
          resumable: true,
        })
      case 'failed': {
        const { resumable, verifyFailed = false } = message
        const left = { text: `copy failed: ${message.message}`, message: message.message, resumable }
        return resumable ? cut('interrupted', left) : cut('failed', { ...left, verifyFailed })
      }
    }
  }
  // Reports are taken one after the other, so that the logbook keeps their order.
  let queue = Promise.resolve()
  const inTurn = (work: () => Promise<void> | void) => {
    queue = queue.then(work).catch((error: unknown) => log.error(error))
  }
  const lost = (error: unknown) => {
    log.error(error)
    inTurn(() =>
      cut('interrupted', {
        message: 'The copy ended unexpectedly. The target is marked as unfinished; the source is untouched.',
        resumable: true,
      }),
    )
  }
  worker.on('message', (message: FromWorker) => inTurn(() => receive(message)))
  worker.on('error', lost)
  worker.on('exit', () => inTurn(() => (ended ? undefined : lost(new Error('The thread of a copy left.')))))
  publish({ type: 'changed', moveId })
}

async function startThread(order: CopyOrder, isRetry: boolean): Promise<Worker> {
  try {
    return new Worker(new URL('./copy.worker.ts', import.meta.url), { workerData: order })
  } catch (error) {
    log.error(error)
    await endUnstarted(order.job, isRetry || order.resume !== undefined)
    throw new Refusal('copy-no-thread')
  }
}

/** Ends the row of a copy that was not started after all, as what it was before, or as one that failed. */
async function endUnstarted(id: string, wasThere: boolean): Promise<void> {
  const row = await CopyRow.findByPk(id, { attributes: ['summary'] })
  if (row?.summary) return saveCopyEnd(id, { status: 'done' })
  const message = 'It could not be started. Nothing was written by this attempt.'
  const endedAt = Math.round(await benchNow())
  await saveCopyEnd(
    id,
    wasThere ? { status: 'interrupted', resumable: true, message, endedAt } : { status: 'failed', message, endedAt },
  )
}

async function takeSummary(move: Move, leg: LegNow, which: string, summary: CopySummary): Promise<void> {
  if (leg.transfer.to.kind === 'virtual-disk') await addDisk(move, leg)
  const equal = summary.checkedBytes > 0 ? 'equal' : 'not read back, as chosen'
  await note(move.id, `${which} done, ${formatSize(summary.copiedBytes)} ${equal}`, 'good')
  if (summary.lost.length > 0) await note(move.id, lostWords(summary.lost), 'bad')
  if (move.row.ready?.whenDone === 'power-off' && leg.index === leg.of - 1) {
    await changeComputer(move.computer.id, { running: 'off' })
    await note(move.id, `${move.computer.name} switched off, as chosen`)
  }
}

/** Notes what had a system start from where it came to as repairs, which Proof takes back. */
async function takeStarted(
  move: Move,
  { targets: [target], starts }: CopyPart,
  { made, problem }: LetStarted,
): Promise<void> {
  const { proof } = await moveRow(move.id)
  const at = await benchNow()
  const repairs = made.map(({ name, title, changes, files = [], know = [] }, i) => ({
    ...{
      id: starts!.repairs[i].id,
      at,
      trialAt: 0,
      driveId: target.id,
      drive: target.title,
      name,
      title,
      undone: false,
    },
    ...{ changes: [...changes], files: [...files], know: [...know] },
  }))
  await saveStationResults(move.id, {
    proof: { trials: proof?.trials ?? [], repairs: [...(proof?.repairs ?? []), ...repairs] },
  })
  for (const { title } of repairs) await note(move.id, title, 'good')
  if (problem !== null) await note(move.id, `it does not start from there yet: ${problem}`, 'bad')
}

/** The throughput of a copy by the nominal one of its devices and links; null of one that was disturbed. */
function throughputRatioOf({ timing, resume }: CopyOrder, summary: CopySummary): number | null {
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
  const isEvent = message.progress.events.length !== (copy.progress?.events.length ?? 0)
  copy.progress = { ...message.progress }
  publish({ type: 'progress', moveId: copy.moveId, progress: message.progress, benchNow: Math.round(await benchNow()) })
  // What happened on the way is kept at once: a copy that is cut off right after it still tells of it.
  if (!isEvent && performance.now() - copy.lastKept < KEEP_EVERY_MS) return
  copy.lastKept = performance.now()
  await CopyRow.update({ progress: copy.progress as CopyProgress }, progressOnly(copy.id))
  await keepClock()
}

export function send(copy: Running, message: ToWorker): void {
  copy.worker.postMessage(message)
}
