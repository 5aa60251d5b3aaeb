import { stat } from 'node:fs/promises'
import { LRUCache } from 'lru-cache'
import type { DriveBytes } from '@/outside/open-drive'
import { singleton } from '../ground/singleton'
import { runTask } from '../jobs/threads'
import type { TaskName, TaskOrder, TaskResult } from '../jobs/threads/tasks'

// What was read of drives is kept for as long as they stay the same, so that a page that is shown again reads nothing.

const MOST = 300

const kept = () => singleton('kept-readings', () => new LRUCache<string, Promise<unknown>>({ max: MOST }))

/** Another text whenever a drive's bytes may be others. Rejects where its file is gone. */
export async function stampOfDrive({ file, stamp }: DriveBytes): Promise<string> {
  return stamp === undefined ? stampOfFile(file) : `${file} ${stamp}`
}

async function stampOfFile(file: string): Promise<string> {
  const { mtimeMs, size, blocks, ino } = await stat(/* turbopackIgnore: true */ file)
  return `${file} ${ino} ${mtimeMs} ${size} ${blocks}`
}

/**
 * What a task reads of a drive, in its thread; or what it read before, of the same bytes and asked the same. `about` is what
 * was asked, as values of JSON; `beside` are further files that were read. Rejects like `runTask`.
 */
export async function keptReading<N extends TaskName>(
  name: N,
  order: TaskOrder<N> & { readonly drive: DriveBytes },
  { about, beside = [] }: { readonly about: unknown; readonly beside?: readonly string[] },
): Promise<TaskResult<N>> {
  const besides = beside.map((file) => stampOfFile(file).catch(() => `${file} is not there`))
  const key = JSON.stringify([name, about, await stampOfDrive(order.drive), ...(await Promise.all(besides))])
  const before = kept().get(key) as Promise<TaskResult<N>> | undefined
  if (before) return before
  const reading = runTask(name, order)
  kept().set(key, reading)
  reading.catch(() => kept().delete(key))
  return reading
}
