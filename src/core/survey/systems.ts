import { parse } from 'plist'
import type { Digest } from '../digest'
import { CoreError } from '../errors'
import type { FileSystem } from '../filesystem'
import { Hive } from '../registry/hive'
import { systemOn } from './known-systems'
import type { InstalledSystem } from './types'

/** Looks for one family of systems on a volume. */
type Detector = (fileSystem: FileSystem, digest: Digest) => Promise<InstalledSystem | undefined>

/** Families of systems; a new one is one line here. */
const DETECTORS: readonly Detector[] = [windows, linux, macos]

/** The first tenths of a settings file are all that is read of one. */
const MAX_TEXT = 256 * 1024

/** The system that a volume holds, by its files, or undefined. Damage on the way hides it and is no error here. */
export async function installedSystem(fileSystem: FileSystem, digest: Digest): Promise<InstalledSystem | undefined> {
  for (const detect of DETECTORS) {
    try {
      const found = await detect(fileSystem, digest)
      if (found) return found
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
    }
  }
  return undefined
}

async function windows(fileSystem: FileSystem, digest: Digest): Promise<InstalledSystem | undefined> {
  const loader = await systemOn(fileSystem, digest)
  if (!loader) return undefined
  return { ...loader, ...(await windowsVersion(fileSystem)) }
}

const SOFTWARE = '/Windows/System32/config/SOFTWARE'
const CURRENT_VERSION = 'Microsoft\\Windows NT\\CurrentVersion'
/** Where the system notes that it is made ready to meet another computer. */
const SETUP_STATE = 'Microsoft\\Windows\\CurrentVersion\\Setup\\State'
const GENERALISED = 'IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE'
/** From this build on the system calls itself 11, while its product name still says 10. */
const FIRST_BUILD_OF_11 = 22000

async function windowsVersion(fileSystem: FileSystem): Promise<Partial<InstalledSystem>> {
  try {
    const file = await fileSystem.stat(SOFTWARE)
    if (file?.kind !== 'file') return {}
    const { read } = await fileSystem.openFile(SOFTWARE)
    const hive = await Hive.open(read, file.sizeBytes)
    const key = await hive.key(CURRENT_VERSION)
    if (!key) return {}
    const build = await hive.text(key, 'CurrentBuild')
    const product = await hive.text(key, 'ProductName')
    const release = await hive.text(key, 'DisplayVersion')
    const name = Number(build) >= FIRST_BUILD_OF_11 ? product?.replace('Windows 10', 'Windows 11') : product
    const version = [release, build && `build ${build}`].filter(Boolean).join(', ')
    const state = await hive.key(SETUP_STATE)
    const generalised = state && (await hive.text(state, 'ImageState')) === GENERALISED
    return {
      ...(name ? { name } : {}),
      ...(version ? { version } : {}),
      ...(generalised ? { generalised } : {}),
      versionFrom: SOFTWARE,
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return {}
  }
}

async function linux(fileSystem: FileSystem): Promise<InstalledSystem | undefined> {
  for (const path of ['/etc/os-release', '/usr/lib/os-release']) {
    if ((await fileSystem.stat(path))?.kind !== 'file') continue
    const text = new TextDecoder().decode(await fileSystem.readFile(path, 0, MAX_TEXT))
    const value = (name: string) => new RegExp(`^${name}=("?)(.*?)\\1\\s*$`, 'm').exec(text)?.[2]
    const name = value('NAME') ?? value('PRETTY_NAME')
    if (name) {
      return {
        family: 'linux',
        name,
        version: value('VERSION') ?? value('VERSION_ID') ?? '',
        versionFrom: path,
        ...NO_LOADER,
      }
    }
  }
  return undefined
}

async function macos(fileSystem: FileSystem): Promise<InstalledSystem | undefined> {
  const path = '/System/Library/CoreServices/SystemVersion.plist'
  if ((await fileSystem.stat(path))?.kind !== 'file') return undefined
  const text = new TextDecoder().decode(await fileSystem.readFile(path, 0, MAX_TEXT))
  let values: Record<string, unknown>
  try {
    values = Object(parse(text))
  } catch {
    values = {}
  }
  const string = (name: string) => (typeof values[name] === 'string' ? (values[name] as string) : undefined)
  const build = string('ProductBuildVersion')
  const version = [string('ProductVersion'), build && `build ${build}`].filter(Boolean).join(', ')
  return { family: 'macos', name: string('ProductName') ?? 'macOS', version, versionFrom: path, ...NO_LOADER }
}

/** Loaders of these systems are not followed from here. */
const NO_LOADER = { loaderPath: '', loaderDigest: '' }
