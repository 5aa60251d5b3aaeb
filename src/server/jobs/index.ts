import { randomUUID } from 'node:crypto'
import { Op } from 'sequelize'
import { CoreError } from '@/core/errors'
import type { JobResult } from '@/core/image/views'
import type { JobKind, JobState, JobView } from '@/core/job'
import { HostFull } from '@/host/errors'
import { database } from '../database'
import { JobRow } from '../database/models'
import { saveAtLast } from '../database/save-at-last'
import { publish } from '../ground/events'
import { log } from '../ground/log'
import { outsideQueues } from '../ground/queue'
import { DISK_FULL } from '../ground/answer'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { type LeaseRequest, startWithLease } from '../leases'
import { HostDiskFull, TaskStopped } from './threads'

// All long work besides copies: each job has an id, a lease on what it uses, progress, an end, and a row that tells of it.

export interface JobControl {
  readonly id: string
  /** Aborted when somebody stops the job. */
  readonly signal: AbortSignal
  progress(done: number, total: number, about?: string): void
}

export interface JobOrder<T> {
  readonly kind: JobKind
  /** What it does, as the start of "is running": `Start of the ticket desk`. */
  readonly title: string
  readonly moveId?: string
  readonly lease: Omit<LeaseRequest, 'purpose'>
  /** What "is in use by" ends with. */
  readonly purpose: string
  /** It can be stopped without harm. */
  readonly stoppable?: boolean
  /** What it leaves where it does not come to its end, in a sentence: nothing, or something half done. */
  readonly leaves: string
  run(control: JobControl): Promise<T>
  /** What of it the list of jobs tells. */
  resultOf?(value: T): JobResult
}

/** A job that was started. `ended` resolves whatever it comes to. */
export interface StartedJob {
  readonly id: string
  readonly ended: Promise<JobView>
}

interface Live {
  view: JobView
  readonly abort: AbortController
  ended?: Promise<JobView>
}

/** Ended jobs that are kept. */
const KEPT = 200

/** Jobs that run, and those whose end the disk has not taken yet. */
const live = () => singleton('jobs', () => new Map<string, Live>())

const isRunning = ({ state }: JobView) => state === 'running'

/** Starts a job. Rejects with Refusal, nothing begun, where something that it needs is in use. */
export async function startJob<T>(order: JobOrder<T>): Promise<StartedJob> {
  await database()
  return startWithLease({ ...order.lease, purpose: order.purpose }, async (lease) => {
    const { kind, title, moveId = null, stoppable = false } = order
    const id = randomUUID()
    const view: JobView = {
      ...{ id, kind, title, moveId, stoppable },
      ...{ state: 'running', done: 0, total: 0, about: null, message: null, result: null },
    }
    const job: Live = { view, abort: new AbortController() }
    await JobRow.create({
      ...{ id, kind, title, moveId, state: 'running', startedAt: Date.now() },
      ...{ endedAt: null, message: null, result: null },
    })
    live().set(id, job)
    publish({ type: 'job', job: view })
    const ended = outsideQueues(() => carryOut(job, order)).then((end) => {
      lease.release()
      return settle(job, end)
    })
    job.ended = ended
    return { id, ended }
  })
}

type End = Pick<JobView, 'state' | 'message' | 'result'>

async function carryOut<T>(job: Live, order: JobOrder<T>): Promise<End> {
  const { signal } = job.abort
  const progress = (done: number, total: number, about: string | null = null) => {
    job.view = { ...job.view, done, total, about }
    publish({ type: 'job', job: job.view })
  }
  try {
    const value = await order.run({ id: job.view.id, signal, progress })
    return { state: 'done', message: null, result: order.resultOf?.(value) ?? null }
  } catch (error) {
    if (error instanceof TaskStopped)
      return { state: 'stopped', message: `You stopped it. ${order.leaves}`, result: null }
    return { state: 'failed', message: failureWords(error, order.leaves), result: null }
  }
}

function failureWords(error: unknown, leaves: string): string {
  if (error instanceof HostDiskFull || error instanceof HostFull || isFull(error)) return `${DISK_FULL} ${leaves}`
  if (error instanceof Refusal || error instanceof CoreError) return error.message
  log.error(error)
  return `It ended unexpectedly; the server’s log has the details. ${leaves}`
}

const isFull = (error: unknown) => error instanceof Error && /SQLITE_FULL|ENOSPC/.test(error.message)

async function settle(job: Live, end: End): Promise<JobView> {
  const { id, moveId } = job.view
  job.view = { ...job.view, ...end }
  const { state, message, result } = end
  await saveAtLast(async () => {
    await JobRow.update({ state, message, result, endedAt: Date.now() }, { where: { id } })
    live().delete(id)
  })
  publish({ type: 'job', job: job.view })
  publish({ type: 'changed', moveId })
  return job.view
}

/** Stops a job that can be stopped. Throws Refusal. */
export function stopJob(id: string): void {
  const job = live().get(id)
  if (!job || !isRunning(job.view)) throw new Refusal('job-not-running')
  if (!job.view.stoppable) throw new Refusal('job-unstoppable', { job: job.view.title })
  job.abort.abort()
}

/** A job by its id. Rejects with Refusal for one that there is not. */
export async function jobById(id: string): Promise<JobView> {
  await database()
  const row = live().get(id)?.view ?? (await JobRow.findByPk(id))
  if (!row) throw new Refusal('job-unknown')
  return 'done' in row ? row : viewOf(row)
}

/** The end of a job, when it has come. */
export async function jobEnd(id: string): Promise<JobView> {
  return (await live().get(id)?.ended) ?? jobById(id)
}

/** Jobs of these kinds, the newest first. */
export async function listJobs(kinds: readonly JobKind[], most = 20): Promise<JobView[]> {
  await database()
  const rows = await JobRow.findAll({ where: { kind: [...kinds] }, order: [['startedAt', 'DESC']], limit: most })
  return Promise.all(rows.map(viewNow))
}

/** The jobs that run now, of a move or of all. */
export function runningJobs(moveId?: string): JobView[] {
  const views = [...live().values()].map((job) => job.view)
  return views.filter((view) => isRunning(view) && (moveId === undefined || view.moveId === moveId))
}

/** The newest job of a move. */
export async function latestJob(moveId: string): Promise<JobView | undefined> {
  await database()
  const row = await JobRow.findOne({ where: { moveId }, order: [['startedAt', 'DESC']] })
  return row ? viewNow(row) : undefined
}

/** A job as it is now, of the row that was read of it. */
async function viewNow(row: JobRow): Promise<JobView> {
  const view = live().get(row.id)?.view
  if (view) return view
  // Of one that ended since it was read memory tells nothing any more.
  if (row.state === 'running') await row.reload()
  return viewOf(row)
}

function viewOf(row: JobRow): JobView {
  const { id, kind, title, moveId, state, message, result } = row
  return { id, kind, title, moveId, state, message, result, done: 0, total: 0, about: null, stoppable: false }
}

/** Jobs that the last server left running ended with it. Called once at the start, before anything else is begun. */
export async function settleJobs(): Promise<void> {
  await database()
  const message = 'The server stopped in the middle of this. Start it again.'
  const state: JobState = 'interrupted'
  await JobRow.update({ state, message, endedAt: Date.now() }, { where: { state: 'running' } })
  const old = await JobRow.findAll({ order: [['startedAt', 'DESC']], offset: KEPT, limit: 10_000, attributes: ['id'] })
  await JobRow.destroy({ where: { id: { [Op.in]: old.map((row) => row.id) } } })
}
