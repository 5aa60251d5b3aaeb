import { BACKGROUND_JOBS, type JobView } from '@/core/job'
import { lowerFirst } from '@/core/words'
import { inMoveQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { moveRow } from '.'
import { type JobControl, type JobOrder, latestJob, runningJobs, startJob, type StartedJob } from '../jobs'

/** The job of a move that keeps everything else of it waiting. */
function blockingJob(moveId: string): JobView | undefined {
  return runningJobs(moveId).find((job) => !BACKGROUND_JOBS.includes(job.kind))
}

/** The job that the pages of a move tell of: the one that runs, or the newest where that did not come to its end. */
export async function shownJob(moveId: string): Promise<JobView | undefined> {
  const job = blockingJob(moveId) ?? (await latestJob(moveId))
  return job && ['running', 'failed', 'interrupted'].includes(job.state) && !BACKGROUND_JOBS.includes(job.kind)
    ? job
    : undefined
}

/** Makes a change of a move in its turn. Refused while a job runs that rests on what the move is now, and of one that was laid aside. */
export function changeMoveInTurn<T>(moveId: string, change: () => Promise<T>): Promise<T> {
  return inMoveQueue(moveId, async () => {
    refuseBusy(moveId)
    await refuseLaidAside(moveId)
    return change()
  })
}

/** The same for what may be changed of a move that was laid aside, too. */
export function changeAnyInTurn<T>(moveId: string, change: () => Promise<T>): Promise<T> {
  return inMoveQueue(moveId, () => {
    refuseBusy(moveId)
    return change()
  })
}

async function refuseLaidAside(moveId: string): Promise<void> {
  const { standing } = await moveRow(moveId)
  if (standing?.kind === 'given-up') throw new Refusal('move-given-up')
  if (standing) throw new Refusal('move-put-off')
}

function refuseBusy(moveId: string): void {
  const job = blockingJob(moveId)
  if (job) throw new Refusal('move-busy', { job: lowerFirst(job.title) })
}

export type MoveJobOrder<T> = Omit<JobOrder<T>, 'moveId'> & {
  /** Stores what it came to, in the move's turn. */
  save(value: T): Promise<void>
}

/** Starts long work of a move, of which there is one at a time. Rejects with Refusal, nothing begun. */
export async function startMoveJob<T>(moveId: string, order: MoveJobOrder<T>): Promise<StartedJob> {
  if (!BACKGROUND_JOBS.includes(order.kind)) refuseBusy(moveId)
  const run = async (control: JobControl) => {
    const value = await order.run(control)
    await inMoveQueue(moveId, () => order.save(value))
    return value
  }
  return startJob({ ...order, moveId, run })
}
