import path from 'node:path'
import type { DriveBytes } from '@/bench/open-drive'
import { type Drive, driveName } from '@/core/things/drive'
import { lentUri } from './lent-keys'
import { drivesFolder, imagesFolder } from './paths'
import { Refusal } from './refusals'
import { singleton } from './singleton'

/** How often bytes of a drive that another bench lends may have become others since this server runs. */
const changes = () => singleton('changes-of-lent', () => new Map<string, number>())

/** Says that a drive was written to, or was out of sight for a while. */
export function mayHaveChanged(driveId: string): void {
  changes().set(driveId, (changes().get(driveId) ?? 0) + 1)
}

/** Another text whenever the bytes of a drive that another bench lends may be others. */
export const lentStamp = (driveId: string) => `${process.pid}.${changes().get(driveId) ?? 0}`

/** How a drive is opened. Throws Refusal for one that is only described, or that another bench lends and is not here. */
export function driveBytes(drive: Drive): DriveBytes {
  const { logicalSectorSize, physicalSectorSize, unreadable, misstores } = drive
  const common = { logicalSectorSize, physicalSectorSize, unreadable, misstores }
  const { borrowed } = drive
  if (borrowed) {
    if (borrowed.state !== 'here')
      throw new Refusal('drive-not-here', { drive: driveName(drive), state: borrowed.state })
    return { ...common, file: lentUri({ id: drive.id, borrowed }), isImage: false, lent: lentStamp(drive.id) }
  }
  if (drive.image !== null)
    return { ...common, file: path.join(imagesFolder(), drive.image), isImage: true, within: imagesFolder() }
  if (!drive.file) throw new Refusal('drive-described-only', { drive: driveName(drive) })
  return { ...common, file: path.join(drivesFolder(), drive.file), isImage: false }
}
