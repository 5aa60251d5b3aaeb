import path from 'node:path'
import { Worker } from 'node:worker_threads'
import { z } from 'zod'
import { formatSize } from '@/core/bytes/size'
import { TARGET_KINDS } from '@/core/image'
import type { ImageJob } from '@/core/image/views'
import { driveName } from '@/core/things/drive'
import { publish } from '../../ground/events'
import { log } from '../../ground/log'
import { imagesFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusal'
import { singleton } from '../../ground/singleton'
import { clearPartial, listImages } from '../../images'
import { imagePath, ImageNameSchema, newImagePath } from '../../images/names'
import { roomIn } from '../../images/room'
import { fileKey, type Leasable, leasableDrive, leasableImage, type Lease, startWithLease } from '../../leases'
import { driveBytes, driveById } from '../../world'
import type { FromImageWorker, ImageOrder } from './messages'

interface Jobs {
  readonly byId: Map<string, ImageJob>
  readonly workers: Map<string, Worker>
  /** Jobs that were let in and have no worker yet. */
  starting: number
  next: number
  cleared: boolean
}

const jobs = () =>
  singleton('image-jobs', (): Jobs => ({ byId: new Map(), workers: new Map(), starting: 0, next: 1, cleared: false }))
const MOST_AT_ONCE = 2
const KEPT = 20

const To = z.enum(TARGET_KINDS)
export const JobRequestSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('convert'), input: ImageNameSchema, output: ImageNameSchema, to: To }),
  z.object({
    kind: z.literal('capture'),
    driveId: z.string().max(60),
    output: ImageNameSchema,
    to: To,
    usedOnly: z.boolean(),
  }),
  z.object({ kind: z.literal('compare'), a: ImageNameSchema, b: ImageNameSchema }),
])

/** Newest first. */
export function listJobs(): ImageJob[] {
  return [...jobs().byId.values()].reverse()
}

/** Starts a job. Throws Refusal, nothing written, when it cannot be started. */
export async function startJob(input: unknown): Promise<ImageJob> {
  const request = JobRequestSchema.parse(input)
  const state = jobs()
  // Those that are being started count before the first of them waits for anything.
  if (state.workers.size + state.starting >= MOST_AT_ONCE)
    throw new Refusal('Two images are being worked on already. Wait for one of them to end.')
  state.starting++
  try {
    return await start(request)
  } finally {
    state.starting--
  }
}

async function start(request: z.infer<typeof JobRequestSchema>): Promise<ImageJob> {
  const state = jobs()
  if (!state.cleared) {
    state.cleared = true
    await clearPartial()
  }
  const { order, title, read } = await orderOf(request)
  // The file that it makes is made by no other job meanwhile.
  const output = order.kind === 'compare' ? undefined : order.output
  const write = output === undefined ? [] : [{ keys: [fileKey(output)], name: `The image ${path.basename(output)}` }]
  return startWithLease({ purpose: `work on images: ${title}`, read, write }, async (lease) =>
    begin(order, title, lease),
  )
}

function begin(order: ImageOrder, title: string, lease: Lease): ImageJob {
  const state = jobs()
  const id = String(state.next++)
  const job: ImageJob = {
    id,
    kind: order.kind,
    title,
    state: 'running',
    doneBytes: 0,
    totalBytes: 0,
    message: null,
    result: null,
  }
  state.byId.set(id, job)
  for (const old of [...state.byId.values()].filter((j) => j.state !== 'running').slice(0, -KEPT))
    state.byId.delete(old.id)
  launch(id, order, lease)
  return job
}

/** Stops a running job; what it was writing is thrown away. */
export function stopJob(id: string): void {
  const worker = jobs().workers.get(id)
  if (!worker) throw new Refusal('This is not running any more.')
  worker.postMessage('stop')
}

/** What a worker is told, what it is called, and what it reads. */
async function orderOf(
  request: z.infer<typeof JobRequestSchema>,
): Promise<{ order: ImageOrder; title: string; read: Leasable[] }> {
  const within = imagesFolder()
  if (request.kind === 'compare') {
    if (request.a === request.b) throw new Refusal('These are one and the same image. Choose another to compare with.')
    const [a, b] = [await imagePath(request.a), await imagePath(request.b)]
    const read = [await leasableImage(a, request.a), await leasableImage(b, request.b)]
    return { order: { kind: 'compare', a, b, within }, title: `${request.a} compared with ${request.b}`, read }
  }
  const output = await newImagePath(request.output)
  const { to } = request
  if (request.kind === 'convert') {
    const input = await imagePath(request.input)
    const known = (await listImages()).find((image) => image.name === request.input)
    await checkRoom(to === 'vhd-fixed' ? 0 : (known?.hostBytes ?? 0))
    const read = [await leasableImage(input, request.input)]
    return {
      order: { kind: 'convert', input, output, to, within },
      title: `${request.input} to ${request.output}`,
      read,
    }
  }
  const drive = await driveById(request.driveId)
  await checkRoom(0)
  const order: ImageOrder = { kind: 'capture', drive: driveBytes(drive), output, to, usedOnly: request.usedOnly }
  return { order, title: `${driveName(drive)} to ${request.output}`, read: [await leasableDrive(drive)] }
}

async function checkRoom(neededBytes: number): Promise<void> {
  const room = await roomIn(imagesFolder())
  if (room === 0 || room < neededBytes) {
    throw new Refusal(
      `There is room for ${formatSize(room)} where the images lie, and about ${formatSize(neededBytes)} are needed. Nothing was written.`,
      507,
    )
  }
}

function launch(id: string, order: ImageOrder, lease: Lease): void {
  const { byId, workers } = jobs()
  const worker = new Worker(new URL('./image.worker.ts', import.meta.url), { workerData: order })
  workers.set(id, worker)
  const update = (changes: Partial<ImageJob>) => {
    const job = { ...byId.get(id)!, ...changes }
    byId.set(id, job)
    publish({ type: 'job', job })
    if (job.state !== 'running') {
      workers.delete(id)
      lease.release()
      publish({ type: 'changed', moveId: null })
    }
  }
  worker.on('message', (message: FromImageWorker) => {
    if (message.type === 'progress') update({ doneBytes: message.doneBytes, totalBytes: message.totalBytes })
    else if (message.type === 'done') update({ state: 'done', result: message.result })
    else update({ state: message.stopped ? 'stopped' : 'failed', message: message.message })
  })
  const lost = (error: unknown) => {
    if (byId.get(id)?.state !== 'running') return
    log.error(error)
    update({ state: 'failed', message: 'It ended unexpectedly. Nothing was left behind.' })
  }
  worker.on('error', lost)
  worker.on('exit', () => lost(new Error('worker left')))
  publish({ type: 'changed', moveId: null })
}
