import type { BlockDevice } from '../block/device'
import { fat } from './fat'
import { ntfs } from './ntfs'
import type { FileSystem, FileSystemDriver } from './port'

export type { DirectoryEntry, FileSystem, FileSystemDriver, VolumeState } from './port'

/** Every file system this program knows; a new one is one line here. */
const DRIVERS: readonly FileSystemDriver[] = [ntfs, fat]

/** The driver that recognises the volume, or undefined. */
export async function recognise(volume: BlockDevice): Promise<FileSystemDriver | undefined> {
  for (const driver of DRIVERS) if (await driver.recognise(volume)) return driver
  return undefined
}

/** The volume opened, or undefined when nothing known is on it. Rejects with BadStructure when damaged. */
export async function openFileSystem(volume: BlockDevice): Promise<FileSystem | undefined> {
  return (await recognise(volume))?.open(volume)
}
