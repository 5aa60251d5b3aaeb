import type { FileSystem } from '../filesystem'
import { controlSetIn } from '../registry/control-set'
import type { Hive } from '../registry/hive'

/** A driver that starts with the loader. */
export const STARTS_EARLY = 0
/** A driver that starts when its device is found. */
export const STARTS_ON_DEMAND = 3

/** What a system knows of one driver. */
export interface InstalledDriver {
  readonly name: string
  /** Key of its service. */
  readonly key: string
  readonly known: boolean
  /** When it starts: 0 is early, with the loader; 3 is when something asks. */
  readonly start: number | undefined
  readonly path: string
  /** Undefined where its file is missing. */
  readonly fileBytes: number | undefined
}

/** True for a driver that is there when the system looks for its own volume. */
export const isEarly = ({ start, fileBytes }: InstalledDriver) => start === STARTS_EARLY && fileBytes !== undefined

/** True for one that has only to be started early. */
export const isThere = ({ known, fileBytes }: InstalledDriver) => known && fileBytes !== undefined

/** What a system, by its SYSTEM hive and its volume, knows of drivers of these service names. */
export async function installedDrivers(
  hive: Hive,
  volume: FileSystem,
  names: readonly string[],
  root = '/Windows',
): Promise<InstalledDriver[]> {
  const services = `${await controlSetIn(hive)}\\Services`
  const found: InstalledDriver[] = []
  for (const name of names) {
    const key = `${services}\\${name}`
    const service = await hive.key(key)
    const image = (service && (await hive.text(service, 'ImagePath'))) ?? `system32\\drivers\\${name}.sys`
    const path = `${root}/${image.replace(/^\\?(systemroot\\)?/i, '').replaceAll('\\', '/')}`
    const file = await volume.stat(path)
    found.push({
      name,
      key,
      known: service !== undefined,
      start: service && (await hive.number(service, 'Start')),
      path,
      fileBytes: file?.kind === 'file' ? file.sizeBytes : undefined,
    })
  }
  return found
}
