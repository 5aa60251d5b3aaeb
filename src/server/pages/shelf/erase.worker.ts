import { parentPort, workerData } from 'node:worker_threads'
import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { type Erased, eraseDevice, type EraseHow } from '@/core/block/erase'
import { CoreError } from '@/core/errors'
import { log } from '../../ground/log'

export interface EraseOrder {
  readonly drive: DriveBytes
  readonly how: EraseHow
}
export type FromEraseWorker =
  { readonly type: 'done'; readonly erased: Erased } | { readonly type: 'failed'; readonly message: string }

const send = (message: FromEraseWorker) => parentPort!.postMessage(message)
const { drive, how } = workerData as EraseOrder

try {
  const { device, close } = await openDrive(drive, { writable: true })
  try {
    send({ type: 'done', erased: await eraseDevice(device, how) })
  } finally {
    await close()
  }
} catch (error) {
  if (!(error instanceof CoreError)) log.error(error)
  send({ type: 'failed', message: error instanceof CoreError ? error.message : 'Erasing ended unexpectedly.' })
}
