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
    const { bytes, hive, set } = await openSystemHive(place)
    const missing: string[] = []
    for (const name of drivers) {
      const key = `${set}\\Services\\${name}`
      const service = await hive.key(key)
      const file = await place.volume.stat(`/Windows/System32/drivers/${name}.sys`)
      if (!service || file?.kind !== 'file') {
        missing.push(name)
        continue
      }
      const start = await hive.number(service, 'Start')
      if (start === 0) return { changes: [], patches: [] }
      const after = await changedHive(bytes, [{ key, name: 'Start', value: 0 }], subject.time)
      return {
        changes: [`In ${SYSTEM_HIVE_PATH}, ${key}: Start goes from ${start ?? 'nothing'} to 0, with the loader.`],
        patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
        files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
      }
    }
    throw new CoreError(
      `The system has no driver for this controller: ${missing.join(', ')}. One has to be brought in from a driver folder first.`,
    )
  },
}
