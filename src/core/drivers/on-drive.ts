import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { type FixedAddress, fixedAddressesIn } from '../registry/addresses'
import { Hive } from '../registry/hive'
import type { DriveSurvey } from '../survey/types'
import { installedDrivers, type InstalledDriver } from './installed'

const SYSTEM_HIVE = '/Windows/System32/config/SYSTEM'

/** What the system on a drive has of these drivers; undefined where it cannot be told. The drive is only read. */
export function driversOn(
  device: BlockDevice,
  survey: DriveSurvey,
  names: readonly string[],
): Promise<InstalledDriver[] | undefined> {
  return withSystemHive(device, survey, (hive, volume) => installedDrivers(hive, volume, names))
}

/** The fixed addresses that the system on a drive has; undefined where it cannot be told. The drive is only read. */
export function fixedAddressesOn(device: BlockDevice, survey: DriveSurvey): Promise<FixedAddress[] | undefined> {
  return withSystemHive(device, survey, (hive) => fixedAddressesIn(hive))
}

async function withSystemHive<T>(
  device: BlockDevice,
  { partitions }: DriveSurvey,
  work: (hive: Hive, volume: FileSystem) => Promise<T>,
): Promise<T | undefined> {
  const home = partitions.find((p) => p.system?.family === 'windows')
  if (!home) return undefined
  const look = async () => {
    const volume = await openFileSystem(new SliceDevice(device, home.startBytes, home.sizeBytes))
    const file = await volume?.stat(SYSTEM_HIVE)
    if (!volume || file?.kind !== 'file') return undefined
    const { read } = await volume.openFile(SYSTEM_HIVE)
    const hive = await Hive.open(read, file.sizeBytes)
    return work(hive, volume)
  }
  return look().catch(orUndefined)
}
