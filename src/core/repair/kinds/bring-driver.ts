import { groupDigits } from '../../bytes/size'
import { type DeviceKind, idsServing, packageFor, type WantedDriver } from '../../drivers/device'
import { installedDrivers, isThere, STARTS_EARLY, STARTS_ON_DEMAND } from '../../drivers/installed'
import type { DriverFolder, DriverPackage } from '../../drivers/packages'
import { storePlaces } from '../../drivers/store'
import { CoreError } from '../../errors'
import { putNtfsFile } from '../../filesystem/ntfs/put-file'
import { HiveEditor } from '../../registry/edit'
import type { NewValue } from '../../registry/make'
import { sliceOf } from '../../boot/start'
import { openSystemHive, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind, RepairSubject } from '../port'
import { patchesOf } from '../written'

const FOLDER = '/Windows/System32/drivers'
/** Room for the key of one service, the devices that it serves, and the lists they go into. */
const SPARE_BYTES = 64 * 1024
const KERNEL_DRIVER = 1
/** An id becomes the name of a key; a file may hold anything in its place, and any number of them. */
const PLAIN_ID = /^[\w&\\.-]{1,120}$/
const MOST_IDS = 32
/** So many files that nothing could be made of are named, and so many ids of a driver. */
const MOST_NAMED = 3

interface Bringing {
  readonly kind: DeviceKind
  /** What it is for: `controller`, `network card`. */
  readonly device: string
  readonly start: number
  /** 3: a start that lacks it ends there, and is tried once more as it was the last time that it went well. */
  readonly errorControl: number
  readonly group: string
  /** Devices of it are there before the system can look for drivers. */
  readonly critical?: { readonly classGuid: string }
}

const STORAGE: Bringing = {
  kind: 'storage',
  device: 'controller',
  start: STARTS_EARLY,
  errorControl: 3,
  group: 'SCSI miniport',
  critical: { classGuid: '{4d36e97b-e325-11ce-bfc1-08002be10318}' },
}

const NETWORK: Bringing = {
  kind: 'network',
  device: 'network card',
  start: STARTS_ON_DEMAND,
  errorControl: 1,
  group: 'NDIS',
}

/** A system that never met a controller has no driver for it; its maker gives one out in a folder. */
export const bringDriver: RepairKind = {
  name: 'bring-driver',
  title: 'Bring in the controller’s driver from the driver folder',
  plan(subject) {
    const { drivers = [], controllerId } = subject
    if (drivers.length === 0 && controllerId === undefined)
      throw new CoreError('It is not known which controller the drive sits at.')
    return bring(subject, { drivers, ...(controllerId === undefined ? {} : { deviceId: controllerId }) }, STORAGE)
  },
}

/** Without its network card’s driver a computer does not come to the others that its system waits for. */
export const bringNetworkDriver: RepairKind = {
  name: 'bring-network-driver',
  title: 'Bring in the network card’s driver from the driver folder',
  async plan(subject) {
    const [card] = subject.cards ?? []
    if (!card) throw new CoreError('It is not known which driver the network card needs.')
    return bring(subject, card, NETWORK)
  },
}

async function bring(subject: RepairSubject, wanted: WantedDriver, { kind, device, ...how }: Bringing) {
  const { driverFolder, time } = subject
  const place = await systemPlace(subject)
  const { partition, volume } = place
  if (volume.kind !== 'ntfs') throw new CoreError(`Files are not put onto ${volume.name} here.`)
  const { bytes, hive, set } = await openSystemHive(place)
  const found = driverFolder && packageFor(driverFolder.packages, kind, wanted)
  const serving = [...wanted.drivers, ...(found ? [found.service] : [])]
  if ((await installedDrivers(hive, volume, serving)).some(isThere)) return { changes: [], patches: [] }
  if (!driverFolder) throw new CoreError('No driver folder is at hand: there is no stick with one.')
  if (!found) throw new CoreError(noneFits(driverFolder, kind, device, wanted))
  const { service, name, version, folder, inf, hardwareIds } = found
  const store = await storePlaces(volume, found)
  const content = await found.read()
  const key = `${set}\\Services\\${service}`
  const editor = await HiveEditor.open(bytes, { spareBytes: SPARE_BYTES })
  const values = async (at: string, list: Readonly<Record<string, NewValue>>) => {
    const made = await editor.make(at, time)
    for (const [valueName, value] of Object.entries(list)) await editor.set(made, valueName, value)
  }
  await values(key, {
    Type: KERNEL_DRIVER,
    Start: how.start,
    ErrorControl: how.errorControl,
    ImagePath: `system32\\drivers\\${service}.sys`,
    Group: how.group,
  })
  const named = wanted.deviceId === undefined ? hardwareIds : idsServing(hardwareIds, wanted.deviceId)
  const devices = how.critical ? named.filter((id) => PLAIN_ID.test(id)).slice(0, MOST_IDS) : []
  for (const id of devices)
    await values(`${set}\\Control\\CriticalDeviceDatabase\\${id.replaceAll('\\', '#').toLowerCase()}`, {
      Service: service,
      ClassGUID: how.critical!.classGuid,
    })
  const after = editor.done(time)
  const path = `${FOLDER}/${service}.sys`
  const start = partition.firstLba * subject.device.logicalSectorSize
  const patches = await patchesOf(sliceOf(subject.device, partition), async (overlay) => {
    await putNtfsFile(overlay, path, content, time)
    for (const { path: kept, file } of store.files)
      await putNtfsFile(overlay, kept, await found.read(file), time, { directories: true })
    await putNtfsFile(overlay, SYSTEM_HIVE_PATH, after, time)
  })
  const starts = how.start === STARTS_EARLY ? 'starts with the loader' : 'starts when the card is found'
  return {
    changes: [
      `${path} is made: ${groupDigits(content.length)} bytes, “${name}”${version && `, ${version}`}, from ${folder}/${inf}.`,
      `The package is kept where the system looks for drivers: ${store.inf}, and ${store.folder}.`,
      `In ${SYSTEM_HIVE_PATH}, ${key} is made and ${starts}${devices.length > 0 ? `; it serves ${devices.join(', ')}` : ''}.`,
    ],
    patches: patches.map((p) => ({ ...p, offset: start + p.offset })),
    files: [{ path: SYSTEM_HIVE_PATH, partition: partition.number }],
  }
}

/** Says what is missing, and what the folder has in its place. */
function noneFits(
  { packages, unusable }: DriverFolder,
  kind: DeviceKind,
  device: string,
  { deviceId, drivers }: WantedDriver,
): string {
  const needs = deviceId ?? drivers.join(' or ')
  const ofKind = packages.filter((p) => p.kind === kind)
  const there = ofKind.map((p) => servedBy(p, deviceId !== undefined)).join(', ')
  const what = kind === 'storage' ? 'storage driver' : 'network driver'
  const broken = unusable
    .slice(0, MOST_NAMED)
    .map(({ path, why }) => ` ${path} is not used: ${why}.`)
    .join('')
  const holds = there ? `There is: ${there}.` : `It holds no ${what}.`
  return `The driver folder has nothing for this ${device}, which needs ${needs}. ${holds}${broken} The computer’s maker gives one out.`
}

const servedBy = ({ service, hardwareIds }: DriverPackage, byId: boolean) =>
  byId ? `${service}, for ${hardwareIds.slice(0, MOST_NAMED).join(' and ')}` : service
