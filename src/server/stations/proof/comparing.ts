import { Worker } from 'node:worker_threads'
import type { ProofCheck } from '@/core/proof/compare'
import { Refusal } from '../../ground/refusal'
import type { FromCompareWorker, PairOrder } from './compare-pairs'

/** Compares pairs of drives in a thread of its own. Throws Refusal where one cannot be read. */
export function compareApart(orders: readonly PairOrder[]): Promise<readonly ProofCheck[][]> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./compare.worker.ts', import.meta.url), { workerData: { orders } })
    const lost = () => reject(new Refusal('The comparison with the old drive ended unexpectedly. Start it again.'))
    worker.on('message', (message: FromCompareWorker) =>
      message.type === 'done' ? resolve(message.checks) : reject(new Refusal(message.message)),
    )
    worker.on('error', lost)
    worker.on('exit', lost)
  })
}
