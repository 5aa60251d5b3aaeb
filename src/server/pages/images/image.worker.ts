import { randomUUID } from 'node:crypto'
import { stat } from 'node:fs/promises'
import { parentPort, workerData } from 'node:worker_threads'
import { openDrive } from '@/bench/open-drive'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { CoreError } from '@/core/errors'
import { TARGETS } from '@/core/image'
import { compareDevices } from '@/core/image/compare'
import { convertDevice, mappedExtents } from '@/core/image/convert'
import { lostOf } from '@/core/image/lost'
import { touchedBy } from '@/core/image/touched'
import { type MapTaken, storedExtents, usedExtentsOf } from '@/core/image/used'
import type { JobResult } from '@/core/image/views'
import { convertFile } from '@/host/convert'
import { createWhole } from '@/host/files'
import { openHostImage } from '@/host/images'
import { packCluster } from '@/host/packed'
import { log } from '../../ground/log'
import type { FromImageWorker, ImageOrder } from './messages'

/** The job ended because a person asked for it. */
class Stopped extends Error {}

const REPORT_EVERY_MS = 150
const order = workerData as ImageOrder
const send = (message: FromImageWorker) => parentPort!.postMessage(message)
const abort = new AbortController()
parentPort!.on('message', () => abort.abort(new Stopped()))

let last = 0
function report(doneBytes: number, totalBytes: number): void {
  if (performance.now() - last < REPORT_EVERY_MS) return
  last = performance.now()
  send({ type: 'progress', doneBytes, totalBytes })
}

const { signal } = abort
const options = { signal, time: Date.now(), guid: randomUUID, pack: packCluster }

async function work(): Promise<JobResult> {
  switch (order.kind) {
    case 'convert': {
      const { input, output, to, within } = order
      const onProgress = (p: { doneBytes: number; totalBytes: number }) => report(p.doneBytes, p.totalBytes)
      return {
        kind: 'written',
        ...(await convertFile(input, output, { ...options, to, within, onProgress })),
        maps: [],
      }
    }
    case 'capture':
      return capture(order)
    case 'compare':
      return compare(order)
  }
}

async function capture({ drive, output, to, usedOnly }: Extract<ImageOrder, { kind: 'capture' }>): Promise<JobResult> {
  const { device: medium, close } = await openDrive(drive, { writable: false })
  try {
    const device = new ReadAroundDevice(medium)
    const maps: MapTaken[] = []
    const used = () => usedExtentsOf(device, (map) => maps.push(map))
    const extents = usedOnly ? storedExtents(device, used()) : mappedExtents(device)
    await createWhole(output, (sink) => {
      const writer = TARGETS[to].writer(sink, {
        ...options,
        virtualBytes: device.size,
        sectorSize: device.logicalSectorSize,
      })
      return convertDevice(device, writer, { signal, extents, onProgress: (p) => report(p.doneBytes, p.totalBytes) })
    })
    const { size, blocks } = await stat(output)
    const lost = await lostOf(device)
    return { kind: 'written', virtualBytes: device.size, fileBytes: size, hostBytes: blocks * 512, lost, maps }
  } finally {
    await close()
  }
}

async function compare({ a, b, within }: Extract<ImageOrder, { kind: 'compare' }>): Promise<JobResult> {
  const left = await openHostImage(a, { within })
  try {
    const right = await openHostImage(b, { within })
    try {
      const [one, other] = [new ReadAroundDevice(left.device), new ReadAroundDevice(right.device)]
      const comparison = await compareDevices(one, other, { signal, onProgress: report })
      const touched = comparison.ranges.length > 0 ? await touchedBy(one, comparison.ranges) : null
      const unreadable = [one.lostSectors, other.lostSectors] as const
      return { kind: 'compared', comparison, touched, unreadable, sectorSize: one.logicalSectorSize }
    } finally {
      await right.close()
    }
  } finally {
    await left.close()
  }
}

try {
  send({ type: 'done', result: await work() })
} catch (error) {
  if (error instanceof Stopped)
    send({ type: 'failed', message: 'You stopped it. Nothing was left behind.', stopped: true })
  else if (error instanceof CoreError) send({ type: 'failed', message: error.message, stopped: false })
  else {
    log.error(error)
    send({
      type: 'failed',
      message: 'It ended with an error of Imbarco’s own, which the server’s log tells. Nothing was left behind.',
      stopped: false,
    })
  }
} finally {
  parentPort!.close()
}
