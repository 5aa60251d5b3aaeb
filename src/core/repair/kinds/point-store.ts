import { deviceBytes, ELEMENTS, elementPath, STORE_OBJECTS, type StoreDevice } from '../../boot/store'
import { partitionAt, storeDeviceOf } from '../../boot/start-windows'
import { CoreError } from '../../errors'
import { changedHive, openStore, patchesOfFile, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** Boot settings name partitions by their disk and place; a copy may have given both anew. */
export const pointStore: RepairKind = {
  name: 'point-store',
  title: 'Point the boot settings at this disk',
  async plan(subject) {
    const { candidate } = subject
    const { place, path, bytes, store } = await openStore(subject)
    const { standard } = store
    if (!standard) throw new CoreError('The boot settings have no standard entry that could be pointed somewhere.')
    const named = standard.systemDevice ?? standard.device
    const system = await systemPlace(subject, (p) => means(named, storeDeviceOf(candidate, p)))
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

/** True for the partition that the entry means, under whichever disk: by its GUID, or the place where it begins. */
function means(device: StoreDevice | undefined, now: StoreDevice): boolean {
  if (device?.scheme === 'gpt') return now.scheme === 'gpt' && now.partitionGuid === device.partitionGuid
  return device !== undefined && now.scheme === 'mbr' && now.offset === device.offset
}
