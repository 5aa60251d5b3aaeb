import path from 'node:path'
import type { JobResult } from '@/core/image/views'
import { TARGETS } from '@/core/image'
import { driveName, hasBytes } from '@/core/things/drive'
import { machineOf } from '@/core/vm/machine'
import { diskName, PACKAGE_FORMAT } from '@/host/package'
import { Refusal } from '../../ground/refusals'
import { listImages } from '../../images'
import { newImagePath } from '../../images/names'
import type { JobOrder } from '../../jobs'
import { runTask } from '../../jobs/threads'
import { leasableDrive } from '../../leases'
import { benchState, computerById, driveBytes } from '../../world'
import { checkRoom, imageJob } from './image-job'

export interface PackRequest {
  readonly computerId: string
  readonly output: string
}

/** Writes a virtual machine of the bench as a package. Throws Refusal for one that runs, and for a computer that is none. */
export async function packOf({ computerId, output }: PackRequest): Promise<JobOrder<JobResult>> {
  const computer = await computerById(computerId)
  const { name, running, virtual } = computer
  if (!virtual) throw new Refusal('computer-not-virtual', { computer: name })
  if (running !== 'off') throw new Refusal('pack-machine-runs', { computer: name })
  const drives = (await benchState()).drives.filter(
    (drive) => drive.place.kind === 'slot' && drive.place.computerId === computerId,
  )
  const described = drives.find((drive) => !hasBytes(drive))
  if (drives.length === 0 || described)
    throw new Refusal('pack-no-disk', { computer: name, disk: described ? driveName(described) : null })
  const file = await newImagePath(output)
  const images = await listImages()
  const takes = drives.reduce((sum, { image }) => sum + (images.find((i) => i.name === image)?.hostBytes ?? 0), 0)
  // The disks are written beside the file that they go into.
  await checkRoom(2 * takes)
  const stem = path.parse(output).name
  const machine = machineOf(
    computer,
    drives.map((drive, i) => ({ ...drive, file: diskName(stem, i, PACKAGE_FORMAT) })),
  )
  const title = `${name} to ${output}, ${TARGETS[PACKAGE_FORMAT].name}`
  const read = await Promise.all(drives.map(leasableDrive))
  const disks = drives.map(driveBytes)
  return imageJob('convert', { title, read, output: file }, (options) =>
    runTask('packMachine', { machine, disks, output: file }, options),
  )
}
