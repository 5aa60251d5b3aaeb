import { installedDrivers, isEarly, isThere, STARTS_EARLY } from '../../drivers/installed'
import { CoreError } from '../../errors'
import { changedHive, openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** A driver that waits to be asked is not there when the system looks for its own volume. */
export const startDriver: RepairKind = {
  name: 'start-driver',
  title: 'Start the controller’s driver early',
  async plan(subject) {
    const { drivers = [] } = subject
    if (drivers.length === 0) throw new CoreError('It is not known which controller the drive sits at.')
    const place = await systemPlace(subject)
    const { bytes, hive } = await openSystemHive(place)
    const installed = await installedDrivers(hive, place.volume, drivers)
    if (installed.some(isEarly)) return { changes: [], patches: [] }
    const found = installed.find(isThere)
    if (!found) {
      throw new CoreError(
        `The system has no driver for this controller: ${drivers.join(', ')}. One has to be brought in from a driver folder first.`,
      )
    }
    const { key, start } = found
    const after = await changedHive(bytes, [{ key, name: 'Start', value: STARTS_EARLY }], subject.time)
    return {
      changes: [`In ${SYSTEM_HIVE_PATH}, ${key}: Start goes from ${start ?? 'nothing'} to 0, with the loader.`],
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}
