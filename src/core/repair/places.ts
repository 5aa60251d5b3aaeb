import { type BlockDevice, readBytes } from '../block/device'
import { sliceOf } from '../boot/start'
import { type BootStore, MAX_STORE_BYTES, readStore } from '../boot/store'
import { formatSize } from '../bytes/size'
import { CoreError, orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { putFatFile } from '../filesystem/fat/put-file'
import { putNtfsFile } from '../filesystem/ntfs/put-file'
import { limitsOf } from '../fit/limits'
import { controlSetIn } from '../registry/control-set'
import { HiveEditor } from '../registry/edit'
import { Hive, type HiveKey } from '../registry/hive'
import type { NewValue } from '../registry/make'
import { type TablePartition, TYPE_GUIDS } from '../scheme/types'
import {
  BIOS_STORE_PATH,
  KNOWN_SYSTEMS,
  MAX_LOADER_BYTES,
  OWN_LOADER_PATH,
  UEFI_STORE_PATH,
} from '../survey/known-systems'
import { surveyPartition } from '../survey/partition'
import { DepthProfile } from '../survey/profile'
import type { Patch, RepairSubject } from './port'
import { patchesOf } from './written'

// Where the things lie that repairs change, and how a changed file becomes changed bytes of the drive.

/** A volume of the drive with its partition. */
export interface Place {
  readonly partition: TablePartition
  readonly volume: FileSystem
}

/** The volume that a start begins on: the EFI system partition, or the active one. Rejects with CoreError. */
export async function bootPlace({ candidate, device, mode }: RepairSubject): Promise<Place> {
  const fitting = candidate.reading.partitions.filter((p) =>
    mode === 'uefi' ? p.typeGuid === TYPE_GUIDS.efiSystem : p.mbr?.active && p.mbr.kind === 'primary',
  )
  const what = mode === 'uefi' ? 'EFI system partition' : 'active partition'
  if (fitting.length === 0) throw new CoreError(`The drive has no ${what}.`)
  if (fitting.length > 1) {
    throw new CoreError(
      `The drive has more than one ${what}: partitions ${fitting.map((p) => p.number).join(', ')}. Which one counts has to be settled first.`,
    )
  }
  const volume = await openFileSystem(sliceOf(device, fitting[0]))
  if (!volume) throw new CoreError(`The ${what}, partition ${fitting[0].number}, holds no file system.`)
  return { partition: fitting[0], volume }
}

export const storePathOf = (mode: RepairSubject['mode']) => (mode === 'uefi' ? UEFI_STORE_PATH : BIOS_STORE_PATH)

/** The boot settings, with the file's bytes. */
export async function openStore(
  subject: RepairSubject,
): Promise<{ place: Place; path: string; bytes: Uint8Array; store: BootStore }> {
  const place = await bootPlace(subject)
  const path = storePathOf(subject.mode)
  const bytes = await wholeFile(place.volume, path, MAX_STORE_BYTES)
  return { place, path, bytes, store: await readStore(await hiveIn(bytes)) }
}

/** Every volume of the drive that holds a system which can be started. */
export async function systemPlaces({ candidate, device }: RepairSubject): Promise<Place[]> {
  const found: Place[] = []
  for (const partition of candidate.reading.partitions) {
    if (partition.mbr?.kind === 'extended') continue
    const volume = await openFileSystem(sliceOf(device, partition)).catch(orUndefined)
    if (volume?.depth !== 'files') continue
    for (const { loaderPath } of KNOWN_SYSTEMS) {
      if ((await volume.stat(loaderPath))?.kind !== 'file') continue
      found.push({ partition, volume })
      break
    }
  }
  return found
}

/**
 * The volume with a system: the one that is `meant`, where any is, else the only one. Rejects with CoreError where there
 * is none, or more than one.
 */
export async function systemPlace(
  subject: RepairSubject,
  meant: (partition: TablePartition) => boolean = () => false,
): Promise<Place> {
  const places = await systemPlaces(subject)
  const asked = places.find((p) => p.partition.number === subject.system)
  if (subject.system !== undefined && !asked)
    throw new CoreError(`Partition ${subject.system} holds no system that could be started.`)
  const named = asked ?? places.find((p) => meant(p.partition))
  if (named) return named
  if (places.length === 0) throw new CoreError('No volume of the drive holds a system that could be started.')
  if (places.length > 1) {
    throw new CoreError(
      `More than one volume holds a system: partitions ${places.map((p) => p.partition.number).join(', ')}. Which one is meant cannot be told from the drive.`,
    )
  }
  return places[0]
}

/** The system's loader for that way to start. Rejects with CoreError where it has none. */
export async function loaderOf({ volume, partition }: Place, mode: RepairSubject['mode']) {
  for (const known of KNOWN_SYSTEMS) {
    if (!known.loaderPath.endsWith(mode === 'uefi' ? '.efi' : '.exe')) continue
    if ((await volume.stat(known.loaderPath))?.kind === 'file') return known
  }
  throw new CoreError(
    `The system on partition ${partition.number} has no loader for ${mode === 'uefi' ? 'UEFI' : 'a BIOS'}.`,
  )
}

/** The system's own copy of the loader that UEFI starts it by. Rejects with CoreError where it keeps none. */
export async function ownLoaderOf({ volume, partition }: Place): Promise<Uint8Array> {
  const own = await volume.stat(OWN_LOADER_PATH)
  if (own?.kind !== 'file' || own.sizeBytes > MAX_LOADER_BYTES)
    throw new CoreError(
      `The system keeps no loader for UEFI: ${OWN_LOADER_PATH} is not on partition ${partition.number}.`,
    )
  return volume.readFile(OWN_LOADER_PATH)
}

export const SYSTEM_HIVE_PATH = '/Windows/System32/config/SYSTEM'
const MAX_SYSTEM_HIVE = 128 * 1024 * 1024

/** The system's own settings, with the file's bytes and the set of them that is in use. */
export async function openSystemHive({
  volume,
}: Pick<Place, 'volume'>): Promise<{ bytes: Uint8Array; hive: Hive; set: string }> {
  const bytes = await wholeFile(volume, SYSTEM_HIVE_PATH, MAX_SYSTEM_HIVE)
  const hive = await hiveIn(bytes)
  return { bytes, hive, set: await controlSetIn(hive) }
}

export function hiveIn(bytes: Uint8Array): Promise<Hive> {
  return Hive.open((offset, length) => Promise.resolve(bytes.subarray(offset, offset + length)), bytes.length)
}

/**
 * The same rule as a fit has: a volume that was not closed, or on which a system sleeps, keeps its size. Throws
 * CoreError.
 */
export async function expectResizable(device: BlockDevice, partition: TablePartition): Promise<void> {
  const noDigest = () => new Uint8Array(32)
  const { partition: found } = await surveyPartition(device, partition, noDigest, new DepthProfile(device.size))
  const { notNow } = limitsOf(found)
  if (notNow) throw new CoreError(notNow)
}

/** A value to be set, by the path of its key. */
export interface HiveChange {
  readonly key: string
  readonly name: string
  readonly value: NewValue
}

/** The hive's file with these values. Rejects with CoreError where a key is not there, or it was not closed. */
export async function changedHive(
  bytes: Uint8Array,
  changes: readonly HiveChange[],
  time: bigint,
): Promise<Uint8Array> {
  const editor = await HiveEditor.open(bytes)
  for (const { key, name, value } of changes) {
    const found: HiveKey | undefined = await editor.key(key)
    if (!found) throw new CoreError(`The registry hive has no key ${key}.`)
    await editor.set(found, name, value)
  }
  return editor.done(time)
}

async function wholeFile(volume: FileSystem, path: string, most: number): Promise<Uint8Array> {
  const file = await volume.stat(path)
  if (file?.kind !== 'file') throw new CoreError(`${path} is missing.`)
  if (file.sizeBytes > most) throw new CoreError(`${path} is ${formatSize(file.sizeBytes)} long, which it cannot be.`)
  return volume.readFile(path)
}

/** A whole file by its path. */
export interface WholeFile {
  readonly path: string
  readonly content: Uint8Array
}

/** Bytes of the drive that become others when a volume gets whole files. Rejects with CoreError where it takes none. */
export async function patchesOfPut(
  { device, time }: RepairSubject,
  { partition, volume }: Place,
  files: readonly WholeFile[],
): Promise<Patch[]> {
  const put = volume.kind === 'ntfs' ? putNtfsFile : volume.kind.startsWith('fat') ? putFatFile : undefined
  if (!put) throw new CoreError(`Files are not put onto ${volume.name} here.`)
  const start = partition.firstLba * device.logicalSectorSize
  const patches = await patchesOf(sliceOf(device, partition), async (overlay) => {
    for (const { path, content } of files) await put(overlay, path, content, time)
  })
  return patches.map((p) => ({ ...p, offset: start + p.offset }))
}

/** The sectors of the drive in which a file differs from what it is to hold; it keeps its length. */
export async function patchesOfFile(
  subject: RepairSubject,
  { partition, volume }: Place,
  path: string,
  before: Uint8Array,
  after: Uint8Array,
): Promise<Patch[]> {
  if (volume.state !== 'clean') {
    throw new CoreError(`The volume with ${path} is not clean. It has to be checked before anything is written to it.`)
  }
  if (!volume.fileExtents) throw new CoreError(`Files on ${volume.name} cannot be changed here.`)
  const { device } = subject
  const sector = device.logicalSectorSize
  const start = partition.firstLba * sector
  const patches: Patch[] = []
  let at = 0
  for (const { offset, length } of await volume.fileExtents(path)) {
    const held = Math.min(length, after.length - at)
    for (let from = 0; from < held; from += sector) {
      const to = Math.min(from + sector, held)
      const was = before.subarray(at + from, at + to)
      const is = after.subarray(at + from, at + to)
      if (was.every((byte, i) => byte === is[i])) continue
      // Whole sectors: what lies behind the end of the file stays.
      const place = start + offset + from
      const old = (await readBytes(device, place, sector)).slice()
      const next = old.slice()
      next.set(is)
      patches.push({ offset: place, before: old, after: next })
    }
    at += held
  }
  if (at < after.length) throw new CoreError(`${path} is kept in a way that cannot be changed in its place.`)
  return patches
}
