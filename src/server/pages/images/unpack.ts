import { randomBytes } from 'node:crypto'
import path from 'node:path'
import { isHost } from '@/core/things/accessory'
import { computerOfMachine, driveOfDisk } from '@/core/vm/machine'
import type { JobResult } from '@/core/image/views'
import { inTransaction } from '../../database/transaction'
import { ComputerRow, DriveRow } from '../../database/models'
import { publish } from '../../ground/events'
import { imagesFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusals'
import { freeStem } from '../../images/names'
import { runTask, type TaskOptions } from '../../jobs/threads'
import type { Unpacked } from '../../jobs/threads/tasks/images'
import { activeBench, benchState } from '../../world'
import { thingId } from '../../world/things'

/** A package of a virtual machine is told by its name, as section 5 of its standard has it. */
export const isPackage = (name: string) => /\.(ova|ovf)$/i.test(name)

/**
 * What makes a virtual machine of a package: its disks become images of their own, held against its manifest and read
 * back, and the machine stands on the bench, at the first host, switched off. Rejects with Refusal where there is no host.
 */
export async function unpackOf(file: string, name: string): Promise<(options: TaskOptions) => Promise<JobResult>> {
  const host = (await benchState()).accessories.find(isHost)
  if (!host) throw new Refusal('no-host')
  const within = imagesFolder()
  const stem = await freeStem(path.parse(name).name)
  const aside = path.join(within, `.${stem}.${randomBytes(4).toString('hex')}.partial`)
  return async (options) => {
    const unpacked = await runTask('unpackMachine', { file, within, aside, stem, host }, options)
    await inTransaction(() => addMachine(unpacked, { id: host.id, bytesPerSecond: host.diskBytesPerSecond }))
    publish({ type: 'changed', moveId: null })
    return unpacked.written
  }
}

async function addMachine(
  { machine, disks }: Unpacked,
  host: { readonly id: string; readonly bytesPerSecond: number },
): Promise<void> {
  const { id: benchId } = await activeBench()
  const id = await thingId(ComputerRow, machine.name)
  const data = computerOfMachine(
    { ...machine, disks: machine.disks.map((disk, i) => ({ ...disk, file: disks[i].name })) },
    { id, hostId: host.id },
  )
  await ComputerRow.create({ id, benchId, data })
  for (const [i, { name, sectorSize }] of disks.entries()) {
    const disk = { ...machine.disks[i], file: name, sizeBytes: disks[i].virtualBytes }
    const at = {
      id: await thingId(DriveRow, `${machine.name} disk ${i + 1}`),
      computerId: id,
      serial: `DISK-${i + 1}-${id.toUpperCase()}`.slice(0, 80),
      name: `Virtual disk ${String.fromCharCode(65 + (i % 26))}`,
    }
    const drive = driveOfDisk(disk, at, { sectorSize, bytesPerSecond: host.bytesPerSecond })
    await DriveRow.create({ id: drive.id, benchId, data: drive })
  }
}
