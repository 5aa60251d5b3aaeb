import { groupDigits } from '../../bytes/size'
import { installedDrivers, isThere, STARTS_EARLY } from '../../drivers/installed'
import { CoreError } from '../../errors'
import { putNtfsFile } from '../../filesystem/ntfs/put-file'
import { HiveEditor } from '../../registry/edit'
import { sliceOf } from '../../boot/start'
import { openSystemHive, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'
import { patchesOf } from '../written'

const FOLDER = '/Windows/System32/drivers'
/** Room for the key of one service and the lists it goes into. */
const SPARE_BYTES = 32 * 1024
const KERNEL_DRIVER = 1
/** A start that lacks it ends there, and is tried once more as it was the last time that it went well. */
const SEVERE = 3

/** A system that never met a controller has no driver for it; its maker gives one out in a folder. */
export const bringDriver: RepairKind = {
  name: 'bring-driver',
  title: 'Bring in the controller’s driver from the driver folder',
  async plan(subject) {
    const { drivers = [], packages, device, time } = subject
    if (drivers.length === 0) throw new CoreError('It is not known which controller the drive sits at.')
    const place = await systemPlace(subject)
    const { partition, volume } = place
    if (volume.kind !== 'ntfs') throw new CoreError(`Files are not put onto ${volume.name} here.`)
    const { bytes, hive, set } = await openSystemHive(place)
    if ((await installedDrivers(hive, volume, drivers)).some(isThere)) return { changes: [], patches: [] }
    if (!packages) throw new CoreError('No driver folder is at hand: there is no stick with one.')
    const found = packages.find((p) => drivers.some((name) => name.toLowerCase() === p.service.toLowerCase()))
    if (!found) {
      const there = packages.map((p) => p.service).join(', ')
      throw new CoreError(
        `The driver folder has nothing for this controller, which needs ${drivers.join(' or ')}. ${there ? `There is: ${there}.` : 'It holds no storage driver.'} The computer’s maker gives one out.`,
      )
    }
    const { service, name, version, folder, inf } = found
    const content = await found.read()
    const key = `${set}\\Services\\${service}`
    const editor = await HiveEditor.open(bytes, { spareBytes: SPARE_BYTES })
    const made = await editor.make(key, time)
    for (const [valueName, value] of Object.entries({
      Type: KERNEL_DRIVER,
      Start: STARTS_EARLY,
      ErrorControl: SEVERE,
      ImagePath: `system32\\drivers\\${service}.sys`,
      Group: 'SCSI miniport',
    })) {
      await editor.set(made, valueName, value)
    }
    const after = editor.done(time)
    const path = `${FOLDER}/${service}.sys`
    const start = partition.firstLba * device.logicalSectorSize
    const patches = await patchesOf(sliceOf(device, partition), async (overlay) => {
      await putNtfsFile(overlay, path, content, time)
      await putNtfsFile(overlay, SYSTEM_HIVE_PATH, after, time)
    })
    return {
      changes: [
        `${path} is made: ${groupDigits(content.length)} bytes, “${name}”${version && `, ${version}`}, from ${folder}/${inf}.`,
        `In ${SYSTEM_HIVE_PATH}, ${key} is made and starts with the loader.`,
      ],
      patches: patches.map((p) => ({ ...p, offset: start + p.offset })),
      files: [{ path: SYSTEM_HIVE_PATH, partition: partition.number }],
    }
  },
}
