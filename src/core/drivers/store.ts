import { crc32 } from '../bytes/crc32'
import { CoreError } from '../errors'
import type { FileSystem } from '../filesystem'
import type { DriverPackage } from './packages'

const INF_FOLDER = '/Windows/INF'
const STORE = '/Windows/System32/DriverStore/FileRepository'
/** So many setup information files of makers a system is asked about. */
const MOST_INFS = 10_000

/** Where a system keeps the package of a driver that came to it. */
export interface StorePlaces {
  /** Path of its setup information file, among those of all makers. */
  readonly inf: string
  /** The folder that the whole package is kept in. */
  readonly folder: string
  /** Each file that is made, with the file of the package that it is a copy of. */
  readonly files: readonly { readonly path: string; readonly file: string }[]
}

/**
 * The places of a package in the driver store of a system's volume, where it finds the package again when it meets the
 * device: the setup information file under the next free name of its kind, and all files in a folder of their own.
 */
export async function storePlaces(volume: FileSystem, { inf, version, files }: DriverPackage): Promise<StorePlaces> {
  const there = (await volume.stat(INF_FOLDER))?.kind === 'directory' ? await volume.list(INF_FOLDER) : []
  const taken = new Set(there.map((e) => e.name.toLowerCase()))
  let number = 0
  while (taken.has(`oem${number}.inf`))
    if (++number > MOST_INFS) throw new CoreError('The system has no room for one more driver.')
  const mark = crc32(new TextEncoder().encode(`${inf} ${version}`.toLowerCase()))
  const folder = `${STORE}/${inf.toLowerCase()}_amd64_${mark.toString(16).padStart(16, '0')}`
  const listed = `${INF_FOLDER}/oem${number}.inf`
  return {
    inf: listed,
    folder,
    files: [{ path: listed, file: inf }, ...files.map((file) => ({ path: `${folder}/${file}`, file }))],
  }
}
