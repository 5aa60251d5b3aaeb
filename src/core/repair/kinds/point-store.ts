import {
  deviceBytes,
  ELEMENTS,
  elementPath,
  namedDevices,
  STORE_OBJECTS,
  type StoreDevice,
  withNamedDevice,
} from '../../boot/store'
import { partitionAt, storeDeviceOf } from '../../boot/start-windows'
import { CoreError } from '../../errors'
import { counted } from '../../words'
import { followMoves } from '../moved'
import { changedHive, hiveIn, openStore, patchesOfFile, systemPlace } from '../places'
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
    const meant = standard.systemDevice ?? standard.device
    const system = await systemPlace(subject, (p) => means(meant, storeDeviceOf(candidate, p)))
    const wanted = storeDeviceOf(candidate, system.partition)
    const manager = storeDeviceOf(candidate, place.partition)
    const known = (device: StoreDevice | undefined) => device && partitionAt([candidate], device)
    const named = await namedDevices(await hiveIn(bytes))
    const follow = followMoves(
      named.map(({ device }) => device),
      subject.moved ?? [],
      (device) => known(device) !== undefined,
    )
    const standardKeys = [ELEMENTS.device, ELEMENTS.systemDevice].map((element) => elementPath(standard.id, element))
    const managerKey = elementPath(STORE_OBJECTS.manager, ELEMENTS.device)
    const values = new Map<string, Uint8Array>()
    let standardChanged = false
    let managerChanged = false
    let followed = 0
    const lost: string[] = []
    for (const one of named) {
      const key = one.key.toLowerCase()
      const own = standardKeys.some((k) => k.toLowerCase() === key)
      const ofManager = managerKey.toLowerCase() === key
      // What is known to have moved is followed; else the standard entry means the only system that is here.
      const to = follow(one.device) ?? (known(one.device) ? undefined : own ? wanted : ofManager ? manager : undefined)
      if (!to) {
        if (!known(one.device)) lost.push(one.key.split('\\')[1])
        continue
      }
      const before = values.get(one.key)
      values.set(one.key, withNamedDevice(before ? { ...one, data: before } : one, to))
      if (own) standardChanged = true
      else if (ofManager) managerChanged = true
      else followed++
    }
    // Elements that name nothing which could be read get what they are to name.
    for (const [key, device, to] of [
      [standardKeys[0], standard.device, wanted],
      [standardKeys[1], standard.systemDevice, wanted],
    ] as const) {
      if (device) continue
      values.set(key, deviceBytes(to))
      standardChanged = true
    }
    const know =
      lost.length > 0
        ? [
            `The boot settings keep ${counted(new Set(lost).size, 'further entry', 'further entries')} whose partition did not come along or cannot be told; what they start does not start from this disk.`,
          ]
        : []
    if (values.size === 0) return { changes: [], patches: [], know }
    const changes = [...values].map(([key, value]) => ({ key, name: 'Element', value }))
    const after = await changedHive(bytes, changes, subject.time)
    return {
      changes: [
        ...(standardChanged
          ? [`In ${path}, “${standard.description}” is on partition ${system.partition.number} of this disk.`]
          : []),
        ...(managerChanged
          ? [`In ${path}, the boot manager is on partition ${place.partition.number} of this disk.`]
          : []),
        ...(followed > 0
          ? [
              `In ${path}, ${counted(followed, 'other setting names', 'other settings name')} its partition at the new place, such as that of the recovery environment.`,
            ]
          : []),
      ],
      know,
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
