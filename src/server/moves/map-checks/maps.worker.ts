import { parentPort, workerData } from 'node:worker_threads'
import { CoreError } from '@/core/errors'
import { log } from '../../ground/log'
import { checkDrives, type MapsOrder } from './check-drives'
import type { FromMapsWorker } from './checking-apart'

const REPORT_EVERY_MS = 300
const send = (message: FromMapsWorker) => parentPort!.postMessage(message)
let last = performance.now()

try {
  const surveys = await checkDrives((workerData as { order: MapsOrder }).order, (title, files) => {
    if (performance.now() - last < REPORT_EVERY_MS) return
    last = performance.now()
    send({ type: 'looked', title, files })
  })
  send({ type: 'done', surveys })
} catch (error) {
  if (!(error instanceof CoreError)) log.error(error)
  send({ type: 'failed', message: error instanceof CoreError ? error.message : 'It ended unexpectedly.' })
}
