import { deviceBytes, ELEMENTS, elementPath, STORE_OBJECTS, type StoreDevice } from '../../boot/store'
import { partitionAt, storeDeviceOf } from '../../boot/start-windows'
import { CoreError } from '../../errors'
import { changedHive, openStore, patchesOfFile, type Place, systemPlaces } from '../places'
import type { RepairKind, RepairSubject } from '../port'

/** Boot settings name partitions by their disk and place; a copy may have given both anew. */
export const pointStore: RepairKind = {
  name: 'point-store',
  title: 'Point the boot settings at this disk',
  async plan(subject) {
    const { candidate } = subject
    const { place, path, bytes, store } = await openStore(subject)
    const { standard } = store
    if (!standard) throw new CoreError('The boot settings have no standard entry that could be pointed somewhere.')
    const system = await meant(subject, standard.systemDevice ?? standard.device)
    const wanted = storeDeviceOf(candidate, system.partition)
    const manager = storeDeviceOf(candidate, place.partition)
    const known = (device: StoreDevice | undefined) => device && partitionAt([candidate], device)
    const changes = [
      ...(known(standard.device) ? [] : [{ key: elementPath(standard.id, ELEMENTS.device), device: wanted }]),
      ...(known(standard.systemDevice)
        ? []
        : [{ key: elementPath(standard.id, ELEMENTS.systemDevice), device: wanted }]),
      ...(store.managerDevice && !known(store.managerDevice)
        ? [{ key: elementPath(STORE_OBJECTS.manager, ELEMENTS.device), device: manager }]
        : []),
    ]
    if (changes.length === 0) return { changes: [], patches: [] }
    const values = changes.map(({ key, device }) => ({ key, name: 'Element', value: deviceBytes(device) }))
    const after = await changedHive(bytes, values, subject.time)
    return {
      changes: [
        ...(changes.some((c) => c.device === wanted)
          ? [`In ${path}, “${standard.description}” is on partition ${system.partition.number} of this disk.`]
          : []),
        ...(changes.some((c) => c.device === manager)
          ? [`In ${path}, the boot manager is on partition ${place.partition.number} of this disk.`]
          : []),
      ],
      patches: await patchesOfFile(subject, place, path, bytes, after),
      files: [{ path, partition: place.partition.number }],
    }
  },
}

/** The system that the entry means: by its partition where that is still here under another disk, else the only one. */
async function meant(subject: RepairSubject, device: StoreDevice | undefined): Promise<Place> {
  const places = await systemPlaces(subject)
  if (places.length === 0) throw new CoreError('No volume of the drive holds a system that could be started.')
  const { candidate } = subject
  const same = places.find(({ partition }) => {
    const now = storeDeviceOf(candidate, partition)
    if (!device || device.scheme !== now.scheme) return false
    return device.scheme === 'gpt'
      ? now.scheme === 'gpt' && now.partitionGuid === device.partitionGuid
      : now.scheme === 'mbr' && now.offset === device.offset
  })
  if (same) return same
  if (places.length === 1) return places[0]
  throw new CoreError(
    `More than one volume holds a system: partitions ${places.map((p) => p.partition.number).join(', ')}. Which one the boot settings mean cannot be told from the drive.`,
  )
}
