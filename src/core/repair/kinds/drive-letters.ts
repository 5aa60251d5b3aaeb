import { LETTER_C, letterBytes } from '../../boot/store'
import { storeDeviceOf } from '../../boot/start-windows'
import { sameBytes } from '../../bytes/same'
import { CoreError } from '../../errors'
import { changedHive, openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** The system keeps which volume is C by its disk and place. */
export const driveLetters: RepairKind = {
  name: 'drive-letters',
  title: 'Give the system volume its letter C',
  async plan(subject) {
    const place = await systemPlace(subject)
    const { bytes, hive } = await openSystemHive(place)
    const mounted = await hive.key('MountedDevices')
    if (!mounted) throw new CoreError('The system keeps no drive letters that could be set.')
    const value = letterBytes(storeDeviceOf(subject.candidate, place.partition))
    const now = await hive.find(mounted, LETTER_C)
    if (now && sameBytes(now.data, value)) return { changes: [], patches: [] }
    const after = await changedHive(bytes, [{ key: 'MountedDevices', name: LETTER_C, value }], subject.time)
    return {
      changes: [
        `In ${SYSTEM_HIVE_PATH}, MountedDevices: ${LETTER_C} names partition ${place.partition.number} of this disk.`,
      ],
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}
