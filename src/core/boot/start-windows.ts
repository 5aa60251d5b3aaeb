import { shortGuid } from '../bytes/guid'
import { sameBytes } from '../bytes/same'
import { formatSize, groupDigits } from '../bytes/size'
import { installedDrivers, isEarly, isThere, STARTS_EARLY } from '../drivers/installed'
import type { FileSystem } from '../filesystem'
import { controlSetIn } from '../registry/control-set'
import { Hive } from '../registry/hive'
import type { TablePartition } from '../scheme/types'
import { STORAGE_DRIVERS } from '../survey/known-systems'
import { BootFailure } from './chain'
import {
  type Candidate,
  checkFile,
  identityOf,
  identityWords,
  orStop,
  sizeOf,
  type Start,
  type Started,
  volumeOn,
} from './start'
import { LETTER_C, letterBytes, MAX_STORE_BYTES, readStore, type StoreDevice, type StoreEntry } from './store'

/** A hive of a system is some tens of megabytes. */
const MAX_HIVE_BYTES = 512 * 1024 * 1024
const SYSTEM_HIVE = 'System32/config/SYSTEM'

/** From the boot settings on the boot partition to the sign-in. */
export async function followWindows(
  start: Start,
  candidate: Candidate,
  bootVolume: FileSystem,
  storePath: string,
): Promise<Started> {
  const entry = await followSettings(start, bootVolume, storePath)
  // The system may lie on another drive than its boot settings.
  const { partition, volume, home } = await followSystemVolume(start, candidate, entry)
  const { driveId } = candidate.drive
  const started = {
    driveId,
    systemPartitionGuid: partition.guid,
    systemPartition: partition.number,
    systemDriveId: home.drive.driveId,
  }
  if (volume.depth !== 'files') {
    start.chain.restUnproved(
      'not followed into the volume',
      `Partition ${partition.number} is ${volume.name}`,
      'Its volume is encrypted. The first start asks for the recovery key.',
    )
    return started
  }
  const root = entry.systemRoot.replaceAll('\\', '/') || '/Windows'
  const hive = await orStop(
    () => openHive(volume, `${root}/${SYSTEM_HIVE}`, MAX_HIVE_BYTES),
    'the system’s settings cannot be read',
    'The loader reads there which drivers to start, so it stops.',
  )
  if (!hive) {
    throw new BootFailure(
      'the system’s settings are missing',
      `${root}/${SYSTEM_HIVE}`,
      'The loader reads there which drivers to start, so it stops.',
    )
  }
  await followDriver(start, home, volume, root, hive)
  await followSignIn(start, home, partition, hive)
  return started
}

/** A hive that is read where it lies; undefined where there is no such file. */
export async function openHive(volume: FileSystem, path: string, mostBytes: number): Promise<Hive | undefined> {
  const file = await volume.stat(path)
  if (file?.kind !== 'file') return undefined
  if (file.sizeBytes > mostBytes) {
    throw new BootFailure(
      `${path} is no registry hive`,
      `${groupDigits(file.sizeBytes)} bytes`,
      'It is far longer than one.',
    )
  }
  const { read } = await volume.openFile(path)
  return Hive.open(read, file.sizeBytes)
}

async function followSettings(start: Start, volume: FileSystem, path: string): Promise<StoreEntry> {
  const { chain } = start
  const why = 'The loader reads there which system to start and where it lies, so it stops.'
  const anew = ['new-store']
  const hive = await orStop(() => openHive(volume, path, MAX_STORE_BYTES), 'the store cannot be read', why, anew)
  if (!hive) throw new BootFailure('the store is missing', path, why, anew)
  const store = await orStop(() => readStore(hive), 'the store contradicts itself', why, anew)
  if (store.entries.length === 0) {
    throw new BootFailure('no entry that starts a system', `${path}, a hive without loader entries`, why, anew)
  }
  if (start.system === undefined && !store.standard) {
    throw new BootFailure(
      'the standard entry is not there',
      `${path}: ${store.standardId ? `it names ${shortGuid(store.standardId)}` : 'none is named'}; there are ${store.entries.map((e) => shortGuid(e.id)).join(', ')}`,
      'The loader starts the standard entry when nobody chooses another.',
      ['standard-entry'],
    )
  }
  const entry = start.system === undefined ? store.standard! : entryFor(start, store.entries, path)
  chain.pass(
    `starts “${entry.description}”${store.entries.length > 1 ? `, one of ${store.entries.length}` : ''}`,
    `${path}, entry ${shortGuid(entry.id)}: ${entry.path} on ${deviceWords(entry.device)}${store.settled ? '' : '; the store was not closed properly'}`,
  )
  return entry
}

/** The entry of a store that starts the system that was chosen. Throws BootFailure where there is none. */
function entryFor({ system, candidates }: Start, entries: readonly StoreEntry[], path: string): StoreEntry {
  const entry = entries.find((e) => {
    const device = e.systemDevice ?? e.device
    return device && partitionAt(candidates, device)?.partition.number === system
  })
  if (entry) return entry
  throw new BootFailure(
    `no entry starts the system on partition ${system}`,
    `${path}: ${entries.map((e) => `“${e.description}” on ${deviceWords(e.systemDevice ?? e.device)}`).join('; ')}`,
    'The loader offers the systems that its settings name, and this one is not among them.',
    ['system-entry'],
  )
}

function deviceWords(device: StoreDevice | undefined): string {
  if (!device) return 'a device that is named in a way not followed here'
  return device.scheme === 'gpt'
    ? `partition ${shortGuid(device.partitionGuid)} of disk ${shortGuid(device.diskGuid)}`
    : `the partition at byte ${groupDigits(device.offset)} of disk ${device.signature.toUpperCase()}`
}

/** The partition of these drives that a store's device names, with the drive. */
export function partitionAt(
  candidates: readonly Candidate[],
  device: StoreDevice,
): { candidate: Candidate; partition: TablePartition } | undefined {
  for (const candidate of candidates) {
    const { reading, drive } = candidate
    if (reading.scheme !== device.scheme) continue
    if (identityOf(reading) !== (device.scheme === 'gpt' ? device.diskGuid : device.signature)) continue
    const partition = reading.partitions.find((p) =>
      device.scheme === 'gpt'
        ? p.guid === device.partitionGuid
        : p.firstLba * drive.device.logicalSectorSize === device.offset,
    )
    if (partition) return { candidate, partition }
  }
  return undefined
}

/** How a store names a partition of a drive. */
export function storeDeviceOf({ reading, drive }: Candidate, partition: TablePartition): StoreDevice {
  return reading.scheme === 'gpt'
    ? { scheme: 'gpt', diskGuid: identityOf(reading), partitionGuid: partition.guid }
    : {
        scheme: 'mbr',
        signature: identityOf(reading),
        offset: partition.firstLba * drive.device.logicalSectorSize,
      }
}

/** Where the partitions of a drive are, as a store would name them. */
function placesOf({ reading, drive }: Candidate): string {
  const sector = drive.device.logicalSectorSize
  const names = reading.partitions
    .filter((p) => p.mbr?.kind !== 'extended')
    .map((p) => (reading.scheme === 'gpt' ? shortGuid(p.guid) : groupDigits(p.firstLba * sector)))
  return reading.scheme === 'gpt' ? `partitions ${names.join(', ')}` : `partitions at bytes ${names.join(', ')}`
}

async function followSystemVolume(start: Start, candidate: Candidate, entry: StoreEntry) {
  const { chain, reference, digest, candidates } = start
  const { drive, reading } = candidate
  const device = entry.systemDevice ?? entry.device
  const missing = (found: string, evidence: string) =>
    new BootFailure(
      found,
      evidence,
      'The boot settings name the system’s partition by its disk and its place or GUID, and nothing here answers to that.',
      ['point-store'],
    )
  if (!device) throw missing('the entry names no partition', `Entry ${shortGuid(entry.id)}`)
  const at = partitionAt(candidates, device)
  if (!at) {
    throw missing(
      'the one that is named is not here',
      `Expected ${deviceWords(device)}; ${drive.name} has ${identityWords(reading)}, ${placesOf(candidate)}`,
    )
  }
  if (entry.device && !partitionAt(candidates, entry.device)) {
    throw missing('its loader is looked for elsewhere', `Expected ${deviceWords(entry.device)}`)
  }
  const { partition, candidate: home } = at
  const volume = await volumeOn(home.drive.device, partition)
  const where = `Partition ${partition.number}, ${home === candidate ? '' : `on ${home.drive.name}, `}from sector ${groupDigits(partition.firstLba)}, as the boot settings name it`
  const words = `${volume.label || 'System'}, ${volume.name}, ${formatSize(sizeOf(partition, home.drive.device))}`
  if (volume.depth !== 'files') {
    chain.pass(words, `${where}; its files are not seen from here`)
    return { partition, volume, home }
  }
  const path = entry.path.replaceAll('\\', '/')
  const wanted =
    reference && reference.systemLoaderPath.toUpperCase() === path.toUpperCase()
      ? reference.systemLoaderDigest
      : undefined
  const { equal, evidence } = await checkFile(volume, path, wanted, digest, {
    found: 'the system’s loader is missing',
    why: 'The boot loader finds the volume, but nothing to start on it.',
  })
  const kernel = `${entry.systemRoot.replaceAll('\\', '/') || '/Windows'}/System32/ntoskrnl.exe`
  const core = await checkFile(volume, kernel, undefined, digest, {
    found: 'the system’s kernel is missing',
    why: 'The system’s loader finds nothing to load.',
  })
  chain.pass(
    `${words}${equal ? ', its loader the same as on the source' : ''}`,
    `${where}; ${evidence}; ${core.evidence}; ${volume.state}`,
  )
  return { partition, volume, home }
}

async function followDriver(
  { chain }: Start,
  { drive }: Candidate,
  volume: FileSystem,
  root: string,
  hive: Hive,
): Promise<void> {
  const why = 'Without an early driver for the controller its drive sits at, the system loses its volume and stops.'
  const services = `${await controlSetIn(hive)}\\Services`
  if (!(await hive.key(services)))
    throw new BootFailure('the system knows no drivers', `${root}/${SYSTEM_HIVE}, ${services}`, why)
  const described = drive.drivers !== undefined && drive.drivers.length > 0
  const installed = await installedDrivers(hive, volume, described ? drive.drivers! : STORAGE_DRIVERS, root)
  const early = installed.find(isEarly)
  if (!early) {
    const known = installed.map(({ name, known, path, fileBytes, start }) => {
      if (!known) return `${name} is not known to it`
      if (fileBytes === undefined) return `${name}: its file ${path} is missing`
      return `${name}: Start ${start ?? 'missing'}, expected ${STARTS_EARLY}`
    })
    const there = !described || installed.some(isThere)
    throw new BootFailure('none starts early', `${services}: ${known.join('; ')}`, why, [
      there ? 'start-driver' : 'bring-driver',
    ])
  }
  const log = hive.settled ? '' : '; the settings were not closed, so what is in their log counts too'
  const evidence = `${early.key}: Start ${early.start}; ${early.path}, ${groupDigits(early.fileBytes!)} bytes${log}`
  if (described) chain.pass(`${early.name}, early, for ${drive.slot}`, evidence)
  else {
    const unknown = 'Which controller the drive will sit at is not known, so neither is whether this is its driver.'
    chain.unproved(`${early.name} starts early`, evidence, unknown)
  }
}

async function followSignIn(
  { chain, candidates }: Start,
  candidate: Candidate,
  partition: TablePartition,
  hive: Hive,
): Promise<void> {
  const mounted = await hive.key('MountedDevices')
  const letter = mounted && (await hive.find(mounted, LETTER_C))
  if (!letter) {
    chain.pass('the system gives its volume the letter anew', `MountedDevices names no ${LETTER_C}`)
    return
  }
  const wanted = letterBytes(storeDeviceOf(candidate, partition))
  if (sameBytes(letter.data, wanted)) {
    chain.pass('C: is this volume', `MountedDevices, ${LETTER_C} names partition ${partition.number} of this disk`)
    return
  }
  const other = candidates
    .flatMap((c) => c.reading.partitions.map((p) => ({ c, p })))
    .find(({ c, p }) => sameBytes(letterBytes(storeDeviceOf(c, p)), letter.data))
  throw new BootFailure(
    'C: is another volume',
    `MountedDevices, ${LETTER_C}: expected partition ${partition.number} of ${candidate.drive.name}, found ${other ? `partition ${other.p.number} of ${other.c.drive.name}` : 'one that is not here'}`,
    'The system starts and then looks for its users under a letter that belongs to something else, so nobody can sign in.',
    ['drive-letters'],
  )
}
