import path from 'node:path'
import type { DriveBytes } from '@/outside/open-drive'
import { type Drive, driveName } from '@/core/things/drive'
import { lentUri } from './lent-keys'
import { drivesFolder, imagesFolder } from './paths'
import { Refusal } from './refusals'
import { singleton } from './singleton'

/** How often bytes of a drive that no file of this server has may have become others since it runs. */
const changes = () => singleton('changes-of-drives', () => new Map<string, number>())

/** Says that a drive was written to, or was out of sight for a while. */
export function mayHaveChanged(driveId: string): void {
  changes().set(driveId, (changes().get(driveId) ?? 0) + 1)
}

/** Another text whenever the bytes of such a drive may be others. */
const stampOf = (driveId: string) => `${process.pid}.${changes().get(driveId) ?? 0}`

/** How a drive is opened. Throws Refusal for one that is only described, or that is not here now. */
export function driveBytes(drive: Drive): DriveBytes {
  const { logicalSectorSize, physicalSectorSize, unreadable, misstores } = drive
  const common = { logicalSectorSize, physicalSectorSize, unreadable, misstores }
  const { borrowed } = drive
  if (borrowed) {
    if (borrowed.state !== 'here')
      throw new Refusal('drive-not-here', { drive: driveName(drive), state: borrowed.state })
    return { ...common, by: 'network', file: lentUri({ id: drive.id, borrowed }), stamp: stampOf(drive.id) }
  }
  const { kernel } = drive
  if (kernel) {
    const { path: file, device } = kernel
    if (file === null || device === null) throw new Refusal('drive-unplugged', { drive: driveName(drive) })
    return { ...common, by: 'kernel', file, device, stamp: `${device.number} ${device.sequence} ${stampOf(drive.id)}` }
  }
  if (drive.image !== null)
    return { ...common, by: 'image', file: path.join(imagesFolder(), drive.image), within: imagesFolder() }
  if (!drive.file) throw new Refusal('drive-described-only', { drive: driveName(drive) })
  return { ...common, by: 'file', file: path.join(drivesFolder(), drive.file) }
}
