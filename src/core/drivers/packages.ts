import { orUndefined } from '../errors'
import type { DirectoryEntry, FileSystem } from '../filesystem'
import type { DeviceKind } from './device'
import { type Inf, readInf } from './inf'

/** What a folder of drivers is read through: a volume, or a folder of the host. */
export type DriverFiles = Pick<FileSystem, 'list' | 'readFile'>

/** A driver as its maker gives it out: a setup information file with the driver beside it. */
export interface DriverPackage {
  readonly kind: DeviceKind
  /** Path of the folder it lies in. */
  readonly folder: string
  readonly inf: string
  /** What it is for, as its maker calls it. */
  readonly name: string
  readonly version: string
  /** The service that it becomes; also the name of its driver's file, without the ending. */
  readonly service: string
  readonly sizeBytes: number
  /** Ids of the devices that it serves. */
  readonly hardwareIds: readonly string[]
  /** Files of the package by their names: the setup information file, the driver, and the catalogue where there is one. */
  readonly files: readonly string[]
  /** The driver's own bytes, or those of another of its files. */
  read(file?: string): Promise<Uint8Array>
}

/** What a folder of drivers holds. */
export interface DriverFolder {
  readonly packages: readonly DriverPackage[]
  /** Setup information files that nothing can be done with, each with the reason as the end of a sentence. */
  readonly unusable: readonly { readonly path: string; readonly why: string }[]
}

/** Where drivers are looked for on a stick. */
export const DRIVERS_FOLDER = '/drivers'
/** The setup classes of SCSI adapters, of controllers of hard disks, and of network cards. */
const KIND_OF_CLASS: Readonly<Record<string, DeviceKind>> = {
  '{4d36e97b-e325-11ce-bfc1-08002be10318}': 'storage',
  '{4d36e96a-e325-11ce-bfc1-08002be10318}': 'storage',
  '{4d36e972-e325-11ce-bfc1-08002be10318}': 'network',
}
const DEEPEST = 4
const MOST_FILES = 400
const MAX_INF_BYTES = 1024 * 1024
const MAX_DRIVER_BYTES = 32 * 1024 * 1024
/** Sections for this processor come before those for any. */
const DECORATIONS = ['.ntamd64', '.nt', '']

/** The drivers in a folder and the folders in it; a folder that is not there holds none. */
export async function driversIn(files: DriverFiles, folder = DRIVERS_FOLDER): Promise<DriverFolder> {
  const packages: DriverPackage[] = []
  const unusable: { path: string; why: string }[] = []
  const left = [{ folder, depth: 0 }]
  for (let seen = 0; left.length > 0 && seen <= MOST_FILES;) {
    const { folder: at, depth } = left.pop()!
    const entries = (await files.list(at).catch(orUndefined)) ?? []
    for (const entry of entries) {
      if (++seen > MOST_FILES) break
      if (entry.kind === 'directory' && depth < DEEPEST) left.push({ folder: entry.path, depth: depth + 1 })
      if (entry.kind !== 'file' || !/\.inf$/i.test(entry.name)) continue
      const found = await packagesOf(files, entry, entries)
      if (typeof found === 'string') unusable.push({ path: entry.path, why: found })
      else packages.push(...found.map((one) => ({ ...one, folder: at })))
    }
  }
  return { packages: packages.sort((a, b) => (a.folder + a.inf < b.folder + b.inf ? -1 : 1)), unusable }
}

/** What one setup information file brings, or why nothing can be done with it, as the end of a sentence. */
async function packagesOf(
  files: DriverFiles,
  { name: inf, path, sizeBytes }: DirectoryEntry,
  beside: readonly DirectoryEntry[],
): Promise<string | Omit<DriverPackage, 'folder'>[]> {
  if (sizeBytes > MAX_INF_BYTES) return 'it is too long for a setup information file'
  const bytes = await files.readFile(path).catch(orUndefined)
  if (!bytes) return 'it cannot be read'
  const told = toldBy(readInf(bytes))
  if (typeof told === 'string') return told
  const fileOf = (name: string) =>
    beside.find((e) => e.kind === 'file' && e.name.toLowerCase() === name.toLowerCase() && e.sizeBytes > 0)
  const whole: Omit<DriverPackage, 'folder'>[] = []
  let missing = ''
  for (const { catalogue, ...one } of told) {
    const driver = fileOf(`${one.service}.sys`)
    if (!driver || driver.sizeBytes > MAX_DRIVER_BYTES) {
      missing ||= driver
        ? `its driver ${driver.name} is too long for one`
        : `its driver ${one.service}.sys is not beside it`
      continue
    }
    const catalogued = catalogue === undefined ? undefined : fileOf(catalogue)
    const parts = [{ name: inf, path }, driver]
    if (catalogued && catalogued.sizeBytes <= MAX_DRIVER_BYTES) parts.push(catalogued)
    whole.push({
      ...one,
      inf,
      sizeBytes: driver.sizeBytes,
      files: parts.map((p) => p.name),
      read: (file = driver.name) => files.readFile(parts.find((p) => p.name === file)!.path),
    })
  }
  return whole.length > 0 || missing === '' ? whole : missing
}

type Told = Pick<DriverPackage, 'kind' | 'name' | 'version' | 'service' | 'hardwareIds'> & {
  readonly catalogue?: string
}

/** The drivers that a setup information file is for, none of another kind of device, or why nothing can be made of it. */
function toldBy(inf: Inf): Told[] | string {
  const first = (section: string, key: string) =>
    inf.get(section)?.find((l) => l.key.toLowerCase() === key.toLowerCase())?.values
  const setupClass = first('version', 'ClassGuid')?.[0]?.toLowerCase()
  const kind = KIND_OF_CLASS[setupClass ?? '']
  if (setupClass === undefined) return 'it does not say what it is for'
  if (kind === undefined) return []
  const found = new Map<string, Told & { hardwareIds: string[] }>()
  for (const { values } of inf.get('manufacturer') ?? []) {
    const [models] = values
    const section = DECORATIONS.map((d) => `${models}${d}`.toLowerCase()).find((name) => inf.has(name))
    for (const { key: name, values: device } of (section && inf.get(section)) || []) {
      const [install] = device
      const services = DECORATIONS.map((d) => `${install}${d}.services`.toLowerCase()).find((s) => inf.has(s))
      const [service, , setup] = (services && first(services, 'AddService')) || []
      const binary = setup && first(setup.toLowerCase(), 'ServiceBinary')?.[0]
      const file = binary?.split('\\').at(-1)
      if (!service || !file || !isServiceName(service) || file.toLowerCase() !== `${service}.sys`.toLowerCase())
        continue
      const version = first('version', 'DriverVer')?.join(', ') ?? ''
      const catalogue = first('version', 'CatalogFile')?.[0]
      const one = found.get(service.toLowerCase()) ?? { kind, name, version, service, catalogue, hardwareIds: [] }
      found.set(service.toLowerCase(), one)
      for (const id of device.slice(1)) if (id !== '' && !one.hardwareIds.includes(id)) one.hardwareIds.push(id)
    }
  }
  return found.size > 0 ? [...found.values()] : 'it names no driver that goes onto this kind of system'
}

/** What a service, and so its file, can be called. */
export function isServiceName(name: string): boolean {
  return /^[A-Za-z0-9_-]{1,40}$/.test(name)
}
