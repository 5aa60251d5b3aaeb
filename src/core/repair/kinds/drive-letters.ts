import { LETTER_C, letterBytes } from '../../boot/store'
import { storeDeviceOf } from '../../boot/start-windows'
import { sameBytes } from '../../bytes/same'
import { CoreError } from '../../errors'
import { changedHive, openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'
import { keptNames, namesOf } from './old-letters'

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
    // The others are by the same old places; set together, none is taken for the place of another.
    const others = (await keptNames(hive, mounted, subject)).filter(
      ({ name, to }) => to !== undefined && name.toUpperCase() !== LETTER_C.toUpperCase(),
    )
    const values = [
      { key: 'MountedDevices', name: LETTER_C, value },
      ...others.map(({ name, to }) => ({ key: 'MountedDevices', name, value: letterBytes(to!) })),
    ]
    const after = await changedHive(bytes, values, subject.time)
    return {
      changes: [
        `In ${SYSTEM_HIVE_PATH}, MountedDevices: ${LETTER_C} names partition ${place.partition.number} of this disk.`,
        ...(others.length > 0
          ? [
              `${namesOf(others)} ${others.length === 1 ? 'names its volume' : 'name their volumes'} at the new place, too.`,
            ]
          : []),
      ],
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}
