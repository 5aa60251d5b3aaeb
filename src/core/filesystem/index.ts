import type { BlockDevice } from '../block/device'
import { apfs } from './apfs'
import { exfat } from './exfat'
import { ext } from './ext'
import { fat } from './fat'
import { hfsplus } from './hfsplus'
import { ntfs } from './ntfs'
import type { FileSystem, FileSystemDriver } from './port'
import { bitlocker } from './sealed/bitlocker'
import { luks } from './sealed/luks'
import { lvm } from './sealed/lvm'
import { swap } from './swap'

export type { DirectoryEntry, FileSystem, FileSystemDriver, VolumeState } from './port'

/**
 * Every kind of volume this program knows; a new one is one line here. Those whose marks are surest come
 * first: an encrypted volume on a removable drive also looks like a FAT.
 */
const DRIVERS: readonly FileSystemDriver[] = [ntfs, exfat, bitlocker, luks, swap, ext, hfsplus, apfs, lvm, fat]

/** The driver that recognises the volume, or undefined. */
export async function recognise(volume: BlockDevice): Promise<FileSystemDriver | undefined> {
  for (const driver of DRIVERS) if (await driver.recognise(volume)) return driver
  return undefined
}

/** The volume opened, or undefined when nothing known is on it. Rejects with BadStructure when damaged. */
export async function openFileSystem(volume: BlockDevice): Promise<FileSystem | undefined> {
  return (await recognise(volume))?.open(volume)
}
