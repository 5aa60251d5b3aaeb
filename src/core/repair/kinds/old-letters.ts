import { LETTER_C, letterBytes } from '../../boot/store'
import { storeDeviceOf } from '../../boot/start-windows'
import { sameBytes } from '../../bytes/same'
import { CoreError } from '../../errors'
import { HiveEditor } from '../../registry/edit'
import { openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** A system goes on keeping letters for drives of the computer it came from. */
export const oldLetters: RepairKind = {
  name: 'old-letters',
  title: 'Let go of the letters of drives that stayed behind',
  async plan(subject) {
    const { candidate } = subject
    const place = await systemPlace(subject)
    const { bytes, hive } = await openSystemHive(place)
    const mounted = await hive.key('MountedDevices')
    if (!mounted) throw new CoreError('The system keeps no drive letters.')
    const here = candidate.reading.partitions.map((p) => letterBytes(storeDeviceOf(candidate, p)))
    const strays = (await hive.values(mounted)).filter(
      ({ name, data }) =>
        /^\\DosDevices\\[A-Z]:$/i.test(name) &&
        name.toUpperCase() !== LETTER_C.toUpperCase() &&
        // Anything else than a partition, such as an optical drive, is named in another way and stays.
        here.some((h) => h.length === data.length) &&
        !here.some((h) => sameBytes(h, data)),
    )
    if (strays.length === 0) return { changes: [], patches: [] }
    const editor = await HiveEditor.open(bytes)
    const key = (await editor.key('MountedDevices'))!
    for (const { name } of strays) await editor.remove(key, name)
    const letters = strays.map(({ name }) => name.slice(-2)).join(', ')
    return {
      changes: [
        `In ${SYSTEM_HIVE_PATH}, MountedDevices lets go of ${letters}, as no partition of this disk has ${strays.length === 1 ? 'it' : 'them'}.`,
      ],
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, editor.done(subject.time)),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}
