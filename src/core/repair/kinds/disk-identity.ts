import { type BlockDevice, readBytes } from '../../block/device'
import { type Candidate, identityOf } from '../../boot/start'
import { storeDeviceOf } from '../../boot/start-windows'
import { deviceBytes, ELEMENTS, elementPath, letterBytes, type StoreDevice, STORE_OBJECTS } from '../../boot/store'
import { guidByChance } from '../../bytes/guid'
import { sameBytes } from '../../bytes/same'
import { CoreError, orUndefined } from '../../errors'
import { readScheme } from '../../scheme'
import { gptWrites } from '../../scheme/gpt'
import { MBR_SECTOR } from '../../scheme/mbr-layout'
import {
  changedHive,
  type HiveChange,
  openStore,
  openSystemHive,
  patchesOfFile,
  SYSTEM_HIVE_PATH,
  systemPlace,
} from '../places'
import type { Patch, RepairKind, RepairSubject } from '../port'
import { patchesOf } from '../written'

/** Two drives of one identity must never meet; the new one gets its own, with all that refers to it. */
export const diskIdentity: RepairKind = {
  name: 'disk-identity',
  title: 'Give the drive an identity of its own',
  async plan(subject) {
    const { candidate, device, chance } = subject
    if (!chance || chance.length < 16) throw new CoreError('No new identity is at hand.')
    const before = identityOf(candidate.reading)
    const renewed = await renew(candidate, device, chance)
    const after = identityOf(renewed.candidate.reading)
    const names = candidate.reading.scheme === 'gpt' ? 'disk GUID' : 'disk signature'
    const store = await storeChanges(subject, renewed.candidate)
    const letters = await letterChanges(subject, renewed.candidate)
    return {
      changes: [
        `The ${names} ${before.toUpperCase()} becomes ${after.toUpperCase()}; partitions keep theirs.`,
        ...(store
          ? [`In ${store.path}, ${store.count} ${store.count === 1 ? 'place names' : 'places name'} the new one.`]
          : []),
        ...(letters ? [`In ${SYSTEM_HIVE_PATH}, ${letters.count} of MountedDevices follow.`] : []),
      ],
      patches: [...(store?.patches ?? []), ...(letters?.patches ?? []), ...renewed.patches],
      files: [...(store ? [store.file] : []), ...(letters ? [letters.file] : [])],
    }
  },
}

async function renew(candidate: Candidate, device: BlockDevice, chance: Uint8Array) {
  const work = async (target: BlockDevice) => {
    const { reading } = candidate
    if (reading.scheme === 'gpt') {
      const table = { ...reading.gpt.table, diskGuid: guidByChance(chance) }
      for (const { offset, bytes } of gptWrites(device.size, device.logicalSectorSize, table))
        // The first sector only protects the table, and stays.
        if (offset > 0) await target.write(offset, bytes)
      return
    }
    const head = (await readBytes(device, 0, device.logicalSectorSize)).slice()
    const signature = [...chance.subarray(0, 4)].map((byte) => byte.toString(16).padStart(2, '0')).join('')
    MBR_SECTOR.write(head, { diskSignature: Number.parseInt(signature, 16) || 1 })
    await target.write(0, head)
  }
  let reading: Candidate['reading'] | undefined
  const patches = await patchesOf(device, async (overlay) => {
    await work(overlay)
    const found = await readScheme(overlay)
    if (found && found.scheme !== 'damaged') reading = found
  })
  if (!reading) throw new CoreError('The table does not read with a new identity, so it keeps its old one.')
  return { patches, candidate: { ...candidate, reading } }
}

interface FileChange {
  readonly path: string
  readonly count: number
  readonly patches: readonly Patch[]
  readonly file: { readonly path: string; readonly partition: number }
}

/** What of the boot settings names this disk. */
async function storeChanges(subject: RepairSubject, renewed: Candidate): Promise<FileChange | undefined> {
  const settings = await openStore(subject).catch(orUndefined)
  if (!settings) return undefined
  const { place, path, bytes, store } = settings
  const changes: HiveChange[] = []
  const follow = (key: string, device: StoreDevice | undefined) => {
    const now = device && renamed(device, subject.candidate, renewed)
    if (now) changes.push({ key, name: 'Element', value: deviceBytes(now) })
  }
  for (const entry of store.entries) {
    follow(elementPath(entry.id, ELEMENTS.device), entry.device)
    follow(elementPath(entry.id, ELEMENTS.systemDevice), entry.systemDevice)
  }
  follow(elementPath(STORE_OBJECTS.manager, ELEMENTS.device), store.managerDevice)
  if (changes.length === 0) return undefined
  const after = await changedHive(bytes, changes, subject.time)
  const patches = await patchesOfFile(subject, place, path, bytes, after)
  return { path, count: changes.length, patches, file: { path, partition: place.partition.number } }
}

/** What of the system's drive letters names partitions of this disk. */
async function letterChanges(subject: RepairSubject, renewed: Candidate): Promise<FileChange | undefined> {
  const place = await systemPlace(subject).catch(orUndefined)
  if (!place || place.volume.depth !== 'files') return undefined
  const { bytes, hive } = await openSystemHive(place)
  const mounted = await hive.key('MountedDevices')
  if (!mounted) return undefined
  const changes: HiveChange[] = []
  for (const { name, data } of await hive.values(mounted)) {
    for (const partition of subject.candidate.reading.partitions) {
      const was = letterBytes(storeDeviceOf(subject.candidate, partition))
      const is = letterBytes(storeDeviceOf(renewed, partition))
      if (sameBytes(data, was) && !sameBytes(was, is)) changes.push({ key: 'MountedDevices', name, value: is })
    }
  }
  if (changes.length === 0) return undefined
  const after = await changedHive(bytes, changes, subject.time)
  const patches = await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after)
  const file = { path: SYSTEM_HIVE_PATH, partition: place.partition.number }
  return { path: SYSTEM_HIVE_PATH, count: changes.length, patches, file }
}

/** A device of this disk under its new identity; undefined for one of another disk. */
function renamed(device: StoreDevice, was: Candidate, is: Candidate): StoreDevice | undefined {
  const identity = identityOf(was.reading)
  if (device.scheme === 'gpt')
    return device.diskGuid === identity ? { ...device, diskGuid: identityOf(is.reading) } : undefined
  return device.signature === identity ? { ...device, signature: identityOf(is.reading) } : undefined
}
