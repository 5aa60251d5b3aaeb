import { parentPort, workerData } from 'node:worker_threads'
import { CoreError } from '@/core/errors'
import { log } from '../../ground/log'
import { comparePairs, type FromCompareWorker, type PairOrder } from './compare-pairs'

const send = (message: FromCompareWorker) => parentPort!.postMessage(message)

try {
  send({ type: 'done', checks: await comparePairs((workerData as { orders: PairOrder[] }).orders) })
} catch (error) {
  if (!(error instanceof CoreError)) log.error(error)
  send({ type: 'failed', message: error instanceof CoreError ? error.message : 'The comparison ended unexpectedly.' })
}
