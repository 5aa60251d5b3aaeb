import { orUndefined } from '../errors'
import type { FileSystem } from '../filesystem'
import { type Inf, readInf } from './inf'

/** What a folder of drivers is read through: a volume, or a folder of the host. */
export type DriverFiles = Pick<FileSystem, 'list' | 'readFile'>

/** A storage driver as its maker gives it out: a setup information file with the driver beside it. */
export interface DriverPackage {
  /** Path of the folder it lies in. */
  readonly folder: string
  readonly inf: string
  /** What it is for, as its maker calls it. */
  readonly name: string
  readonly version: string
  /** The service that it becomes; also the name of its driver's file, without the ending. */
  readonly service: string
  readonly sizeBytes: number
  /** Ids of the controllers that it serves. */
  readonly hardwareIds: readonly string[]
  /** The driver's own bytes. */
  read(): Promise<Uint8Array>
}

/** Where drivers are looked for on a stick. */
export const DRIVERS_FOLDER = '/drivers'
/** Classes of storage controllers: SCSI adapters, and controllers of hard disks. */
const STORAGE_CLASSES = ['{4d36e97b-e325-11ce-bfc1-08002be10318}', '{4d36e96a-e325-11ce-bfc1-08002be10318}']
const DEEPEST = 4
const MOST_FILES = 400
const MAX_INF_BYTES = 1024 * 1024
const MAX_DRIVER_BYTES = 32 * 1024 * 1024
/** Sections for this processor come before those for any. */
const DECORATIONS = ['.ntamd64', '.nt', '']

/**
 * The storage drivers in a folder and the folders in it. What is no such package, or is not whole, is left out; a
 * folder that is not there holds none.
 */
export async function driverPackages(files: DriverFiles, folder = DRIVERS_FOLDER): Promise<DriverPackage[]> {
  const found: DriverPackage[] = []
  const left = [{ folder, depth: 0 }]
  for (let seen = 0; left.length > 0;) {
    const { folder: at, depth } = left.pop()!
    const entries = await files.list(at).catch(orUndefined)
    for (const entry of entries ?? []) {
      if (++seen > MOST_FILES) return found
      if (entry.kind === 'directory' && depth < DEEPEST) left.push({ folder: entry.path, depth: depth + 1 })
      if (entry.kind !== 'file' || !/\.inf$/i.test(entry.name) || entry.sizeBytes > MAX_INF_BYTES) continue
      const bytes = await files.readFile(entry.path).catch(orUndefined)
      const told = bytes && toldBy(readInf(bytes))
      const driver = told && entries!.find((e) => e.name.toLowerCase() === `${told.service}.sys`.toLowerCase())
      if (!driver || driver.kind !== 'file' || driver.sizeBytes > MAX_DRIVER_BYTES || driver.sizeBytes === 0) continue
      found.push({
        folder: at,
        inf: entry.name,
        ...told,
        sizeBytes: driver.sizeBytes,
        read: () => files.readFile(driver.path),
      })
    }
  }
  return found.sort((a, b) => (a.folder + a.inf < b.folder + b.inf ? -1 : 1))
}

/** What a setup information file says of the driver it is for; undefined where it is for no storage controller. */
function toldBy(inf: Inf) {
  const first = (section: string, key: string) =>
    inf.get(section)?.find((l) => l.key.toLowerCase() === key.toLowerCase())?.values
  if (!STORAGE_CLASSES.includes(first('version', 'ClassGuid')?.[0]?.toLowerCase() ?? '')) return undefined
  for (const { values } of inf.get('manufacturer') ?? []) {
    const [models] = values
    const section = DECORATIONS.map((d) => `${models}${d}`.toLowerCase()).find((name) => inf.has(name))
    const devices = (section && inf.get(section)) || []
    for (const { key: name, values: device } of devices) {
      const [install] = device
      const hardwareIds = device.slice(1).filter(Boolean)
      const services = DECORATIONS.map((d) => `${install}${d}.services`.toLowerCase()).find((s) => inf.has(s))
      const [service, , setup] = (services && first(services, 'AddService')) || []
      const binary = setup && first(setup.toLowerCase(), 'ServiceBinary')?.[0]
      const file = binary?.split('\\').at(-1)
      if (!service || !file || !isServiceName(service) || file.toLowerCase() !== `${service}.sys`.toLowerCase())
        continue
      // Every device of the section that installs the same is served by the same driver.
      const all = devices.filter((d) => d.values[0] === install).flatMap((d) => d.values.slice(1).filter(Boolean))
      const version = first('version', 'DriverVer')?.join(', ') ?? ''
      return { name, version, service, hardwareIds: [...new Set([...hardwareIds, ...all])] }
    }
  }
  return undefined
}

/** What a service, and so its file, can be called. */
export function isServiceName(name: string): boolean {
  return /^[A-Za-z0-9_-]{1,40}$/.test(name)
}
