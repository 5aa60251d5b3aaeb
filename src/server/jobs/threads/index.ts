import { availableParallelism } from 'node:os'
import { Worker } from 'node:worker_threads'
import { Semaphore } from 'async-mutex'
import { createPool, type Pool } from 'generic-pool'
import { CoreError } from '@/core/errors'
import { log } from '../../ground/log'
import { singleton } from '../../ground/singleton'
import type { FromThread, TaskFailure, ToThread } from './messages'
import type { TaskName, TaskOrder, TaskProgress, TaskResult } from './tasks'

/** A task was asked to stop, and did. */
export class TaskStopped extends Error {
  override readonly name = 'TaskStopped'
}

/** The disk of the host is full. */
export class HostDiskFull extends CoreError {
  override readonly name = 'HostDiskFull'
}

export interface TaskOptions {
  readonly signal?: AbortSignal
  readonly onProgress?: (progress: TaskProgress) => void
  /** It takes its time: it has one of the places for jobs, so that short reads need not wait for it. */
  readonly long?: boolean
  /** It ends by itself when it is asked to, and cleans up; any other is ended from outside. */
  readonly stopsItself?: boolean
}

/** How many tasks may run at once; more wait for their turn. */
const LONG_THREADS = 4
const SHORT_THREADS = Math.max(2, Math.min(4, availableParallelism() - 1))
/** An idle thread is kept for as long. */
const IDLE_MS = 60_000
/** One that is asked to stop and cleans up has as long for it. */
const STOP_WITHIN_MS = 20_000

/** Any thread carries out any task, so that few have to load the code; a place is had before a thread is. */
const shared = () =>
  singleton('threads', () => ({
    threads: threadPool(SHORT_THREADS + LONG_THREADS),
    short: new Semaphore(SHORT_THREADS),
    long: new Semaphore(LONG_THREADS),
  }))

function threadPool(max: number): Pool<Worker> {
  return createPool<Worker>(
    {
      create: async () => {
        const worker = new Worker(new URL('./tasks.worker.ts', import.meta.url))
        // An idle thread keeps no process from ending, and ends none by an error of its own.
        worker.unref()
        worker.on('error', (error) => log.error(error))
        return worker
      },
      // A thread that ended while nobody used it has no number any more.
      validate: async (worker) => worker.threadId !== -1,
      destroy: async (worker) => void (await worker.terminate()),
    },
    // The thread that was used last is the one whose code is compiled already; the others may end.
    {
      max,
      min: 0,
      fifo: false,
      testOnBorrow: true,
      idleTimeoutMillis: IDLE_MS,
      evictionRunIntervalMillis: IDLE_MS / 2,
    },
  )
}

/**
 * Runs a task in a thread of its own. Rejects with CoreError, whose message is a sentence, with TaskStopped after the
 * signal, and with any other error where the task or its thread ended unexpectedly.
 */
export async function runTask<N extends TaskName>(
  name: N,
  order: TaskOrder<N>,
  { signal, onProgress, long = false, stopsItself = false }: TaskOptions = {},
): Promise<TaskResult<N>> {
  const { threads, ...places } = shared()
  return places[long ? 'long' : 'short'].runExclusive(() =>
    inThread(threads, name, order, { signal, onProgress, stopsItself }),
  )
}

async function inThread<N extends TaskName>(
  threads: Pool<Worker>,
  name: N,
  order: TaskOrder<N>,
  { signal, onProgress, stopsItself }: Omit<TaskOptions, 'long'>,
): Promise<TaskResult<N>> {
  const worker = await threads.acquire()
  if (signal?.aborted) {
    await threads.release(worker)
    throw new TaskStopped()
  }
  let sound = true
  let timer: ReturnType<typeof setTimeout> | undefined
  let stop = () => {}
  let told = (_: FromThread) => {}
  let dead = (_: unknown) => {}
  try {
    worker.ref()
    return await new Promise<TaskResult<N>>((resolve, reject) => {
      dead = (error) => {
        sound = false
        reject(error instanceof Error ? error : new Error(`The thread of ${name} ended unexpectedly.`))
      }
      stop = () => {
        if (!stopsItself) return dead(new TaskStopped())
        worker.postMessage({ type: 'stop' } satisfies ToThread)
        timer = setTimeout(() => dead(new TaskStopped()), STOP_WITHIN_MS)
      }
      told = (message) => {
        if (message.type === 'progress') onProgress?.(message.progress)
        else if (message.type === 'done') resolve(message.result as TaskResult<N>)
        else reject(errorOf(message.failure))
      }
      worker.on('message', told)
      worker.on('error', dead)
      worker.on('exit', dead)
      signal?.addEventListener('abort', stop, { once: true })
      worker.postMessage({ type: 'task', name, order } satisfies ToThread)
    })
  } finally {
    clearTimeout(timer)
    signal?.removeEventListener('abort', stop)
    worker.off('message', told).off('error', dead).off('exit', dead)
    if (sound) {
      worker.unref()
      await threads.release(worker)
    } else await threads.destroy(worker)
  }
}

function errorOf({ kind, message }: TaskFailure): Error {
  if (kind === 'stopped') return new TaskStopped()
  if (kind === 'full') return new HostDiskFull(message)
  return kind === 'core' ? new CoreError(message) : new Error(message)
}
