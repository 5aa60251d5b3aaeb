import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { orUndefined } from '../errors'
import { openFileSystem } from '../filesystem'
import { Hive } from '../registry/hive'
import type { DriveSurvey } from '../survey/types'
import { installedDrivers, type InstalledDriver } from './installed'

const SYSTEM_HIVE = '/Windows/System32/config/SYSTEM'

/** What the system on a drive has of these drivers; undefined where it cannot be told. The drive is only read. */
export async function driversOn(
  device: BlockDevice,
  { partitions }: DriveSurvey,
  names: readonly string[],
): Promise<InstalledDriver[] | undefined> {
  const home = partitions.find((p) => p.system?.family === 'windows')
  if (!home) return undefined
  const look = async () => {
    const volume = await openFileSystem(new SliceDevice(device, home.startBytes, home.sizeBytes))
    const file = await volume?.stat(SYSTEM_HIVE)
    if (!volume || file?.kind !== 'file') return undefined
    const hive = await Hive.open((offset, length) => volume.readFile(SYSTEM_HIVE, offset, length), file.sizeBytes)
    return installedDrivers(hive, volume, names)
  }
  return look().catch(orUndefined)
}
