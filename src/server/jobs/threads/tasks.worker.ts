import { parentPort } from 'node:worker_threads'
import { CoreError } from '@/core/errors'
import { log } from '../../ground/log'
import type { FromThread, TaskFailure, ToThread } from './messages'
import { type TaskControl, type TaskName, type TaskProgress, TASKS } from './tasks'

// Runs one task after the other, each from plain values to plain values.

const REPORT_EVERY_MS = 150
const send = (message: FromThread) => parentPort!.postMessage(message)
let abort = new AbortController()

parentPort!.on('message', (message: ToThread) => {
  if (message.type === 'stop') abort.abort(new Stopped())
  else void run(message.name as TaskName, message.order)
})

/** It ended because somebody asked for it. */
class Stopped extends Error {}

async function run(name: TaskName, order: unknown): Promise<void> {
  abort = new AbortController()
  let last = 0
  const control: TaskControl = {
    signal: abort.signal,
    progress(progress: TaskProgress) {
      // What was found is told once, and must not be lost.
      if (!progress.found?.length && performance.now() - last < REPORT_EVERY_MS) return
      last = performance.now()
      send({ type: 'progress', progress })
    },
  }
  try {
    const task = TASKS[name] as (order: unknown, control: TaskControl) => Promise<unknown>
    send({ type: 'done', result: await task(order, control) })
  } catch (error) {
    send({ type: 'failed', failure: failureOf(error) })
  }
}

function failureOf(error: unknown): TaskFailure {
  if (error instanceof Stopped) return { kind: 'stopped', message: '' }
  if (error instanceof CoreError) return { kind: 'core', message: error.message }
  log.error(error)
  const full = error instanceof Error && 'code' in error && error.code === 'ENOSPC'
  return { kind: full ? 'full' : 'other', message: error instanceof Error ? error.message : String(error) }
}
