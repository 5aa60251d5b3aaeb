import { SliceDevice } from '../../block/slice'
import { storeDeviceOf } from '../../boot/start-windows'
import { makeStore } from '../../boot/store'
import { viewOf } from '../../bytes/struct'
import { guidToString } from '../../bytes/guid'
import { formatSize } from '../../bytes/size'
import { CoreError } from '../../errors'
import { formatFat32 } from '../../filesystem/fat/format'
import { ESP_BYTES } from '../../fit/limits'
import { freePlace } from '../../fit/into-place'
import { addEntry } from '../../scheme/entry'
import { TYPE_GUIDS } from '../../scheme/types'
import { FALLBACK_PATH, UEFI_STORE_PATH } from '../../survey/known-systems'
import { surveyDrive } from '../../survey/survey'
import { loaderOf, ownLoaderOf, systemPlace } from '../places'
import type { RepairKind } from '../port'
import { patchesOf } from '../written'

/**
 * A drive whose system started by BIOS gets what UEFI starts from: an EFI system partition in unallocated space, the
 * loader out of the system's own folder, and boot settings for it.
 */
export const newEsp: RepairKind = {
  name: 'new-esp',
  title: 'Make an EFI system partition',
  async plan(subject) {
    const { candidate, device, mode, chance, time } = subject
    const { reading } = candidate
    if (mode !== 'uefi') throw new CoreError('Only a computer that starts by UEFI needs an EFI system partition.')
    if (reading.scheme !== 'gpt')
      throw new CoreError('The drive has an MBR, from which UEFI alone does not start. Convert its table in Fit.')
    if (reading.partitions.some((p) => p.typeGuid === TYPE_GUIDS.efiSystem)) return { changes: [], patches: [] }
    const system = await systemPlace(subject)
    const { loaderPath, bootLoaderPath, name } = await loaderOf(system, 'uefi')
    const loader = await ownLoaderOf(system)
    if (!chance || chance.length < 16) throw new CoreError('No new identity is at hand.')
    const free = freePlace(await surveyDrive(device, () => new Uint8Array(32)), ESP_BYTES)
    const sector = device.logicalSectorSize
    if (!free || (free.lastLba - free.firstLba + 1) * sector < ESP_BYTES)
      throw new CoreError(`It needs ${formatSize(ESP_BYTES)} of unallocated space, which the drive does not have.`)
    const guid = guidToString(chance.slice(0, 16))
    const esp = { ...free, guid, typeGuid: TYPE_GUIDS.efiSystem }
    const entry = {
      id: guidToString(chance.slice(0, 16).map((byte, i) => (i === 0 ? byte ^ 0xff : byte))),
      description: name,
      path: loaderPath.replaceAll('/', '\\'),
      device: storeDeviceOf(candidate, system.partition),
    }
    const manager = storeDeviceOf(candidate, { ...system.partition, ...esp })
    const store = makeStore({ managerDevice: manager, entries: [entry] }, time)
    let number = 0
    const patches = await patchesOf(device, async (drive) => {
      number = await addEntry(drive, { type: { typeGuid: esp.typeGuid }, ...free, guid })
      const length = (free.lastLba - free.firstLba + 1) * sector
      await formatFat32(new SliceDevice(drive, free.firstLba * sector, length), {
        label: 'SYSTEM',
        serial: viewOf(chance.slice(0, 4)).getUint32(0, true),
        startSector: free.firstLba,
        files: [
          { path: bootLoaderPath, content: loader },
          { path: FALLBACK_PATH, content: loader },
          { path: UEFI_STORE_PATH, content: store },
        ],
      })
    })
    return {
      changes: [
        `Partition ${number} is made in unallocated space, ${formatSize(ESP_BYTES)}, as EFI system partition.`,
        `On it are the loader of the system on partition ${system.partition.number}, out of its own folder, and boot settings with one entry: “${name}”.`,
      ],
      patches,
    }
  },
}
