import { Worker } from 'node:worker_threads'
import type { DriveSurvey } from '@/core/survey/types'
import { Refusal } from '../../ground/refusal'
import type { Looked, MapsOrder } from './check-drives'

export type FromMapsWorker =
  | { readonly type: 'looked'; readonly title: string; readonly files: number }
  | { readonly type: 'done'; readonly surveys: readonly DriveSurvey[] }
  | { readonly type: 'failed'; readonly message: string }

/** Holds maps against files in a thread of its own, which `signal` ends. Throws Refusal where that did not come to its end. */
export function checkDrivesApart(
  order: MapsOrder,
  onLooked: Looked,
  signal: AbortSignal,
): Promise<readonly DriveSurvey[]> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./maps.worker.ts', import.meta.url), { workerData: { order } })
    const lost = () => reject(new Refusal('It ended unexpectedly.'))
    worker.on('message', (message: FromMapsWorker) => {
      if (message.type === 'looked') onLooked(message.title, message.files)
      else if (message.type === 'done') resolve(message.surveys)
      else reject(new Refusal(message.message))
    })
    worker.on('error', lost)
    worker.on('exit', lost)
    signal.addEventListener('abort', () => void worker.terminate())
  })
}
