import path from 'node:path'
import type { DriveBytes } from '@/bench/open-drive'
import { type Drive, driveName } from '@/core/things/drive'
import { drivesFolder, imagesFolder } from './paths'
import { Refusal } from './refusals'

/** How a drive is opened. Throws Refusal for one that is only described. */
export function driveBytes(drive: Drive): DriveBytes {
  const { logicalSectorSize, physicalSectorSize, unreadable, misstores } = drive
  const common = { logicalSectorSize, physicalSectorSize, unreadable, misstores }
  if (drive.image !== null)
    return { ...common, file: path.join(imagesFolder(), drive.image), isImage: true, within: imagesFolder() }
  if (!drive.file) throw new Refusal('drive-described-only', { drive: driveName(drive) })
  return { ...common, file: path.join(drivesFolder(), drive.file), isImage: false }
}
