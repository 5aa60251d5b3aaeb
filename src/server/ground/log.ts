import { mkdirSync } from 'node:fs'
import path from 'node:path'
import { isMainThread } from 'node:worker_threads'
import pino from 'pino'
import { createStream } from 'rotating-file-stream'
import { dataFolder } from './paths'

const LEVEL = process.env.IMBARCO_LOG ?? 'warn'
const LOG_FILE = 'imbarco.log'

/**
 * The server's own log, for whoever runs it; what a technician should know goes into the logbook. It is shown where the
 * server was started, and kept in the data folder, the last files of it.
 */
export const log = pino({ name: 'imbarco', level: LEVEL }, LEVEL === 'silent' ? undefined : pino.multistream(streams()))

function streams(): pino.StreamEntry[] {
  const level = LEVEL as pino.Level
  const shown = { level, stream: process.stderr }
  try {
    const folder = path.join(dataFolder(), 'log')
    mkdirSync(folder, { recursive: true })
    // Threads add to the file; only the server itself begins another one.
    const stream = isMainThread
      ? createStream(LOG_FILE, { path: folder, size: '5M', maxFiles: 5 })
      : pino.destination({ dest: path.join(folder, LOG_FILE), sync: true })
    // A disk that is full ends no server for want of its log.
    ;(stream as NodeJS.EventEmitter).on('error', () => {})
    return [shown, { level, stream }]
  } catch {
    return [shown]
  }
}
