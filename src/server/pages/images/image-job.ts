import path from 'node:path'
import type { JobResult } from '@/core/image/views'
import type { JobKind } from '@/core/job'
import { imagesFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusals'
import { roomIn } from '../../images/room'
import type { JobOrder } from '../../jobs'
import type { TaskOptions } from '../../jobs/threads'
import { fileKey, type Leasable } from '../../leases'

/** The order of a job that a task in a thread of its own does, which can be stopped and leaves nothing then. */
export function imageJob(
  kind: JobKind,
  { title, read, output }: { title: string; read: Leasable[]; output?: string },
  task: (options: TaskOptions) => Promise<JobResult>,
): JobOrder<JobResult> {
  // The file that it makes is made by no other job meanwhile.
  const write = output === undefined ? [] : [{ keys: [fileKey(output)], name: `The image ${path.basename(output)}` }]
  return {
    kind,
    title,
    purpose: `work on images: ${title}`,
    lease: { read, write },
    leaves: 'Nothing was left behind.',
    stoppable: true,
    run: ({ signal, progress }) =>
      task({ signal, onProgress: (p) => progress(p.done, p.total), long: true, stopsItself: true }),
    resultOf: (result) => result,
  }
}

/** Throws Refusal where the images folder has too little room. */
export async function checkRoom(neededBytes: number): Promise<void> {
  const room = await roomIn(imagesFolder())
  if (room === 0 || room < neededBytes) {
    throw new Refusal('images-folder-full', { freeBytes: room, neededBytes })
  }
}
