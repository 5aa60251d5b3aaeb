import { CutOffDevice } from '../block/cut-off'
import type { BlockDevice } from '../block/device'
import { BadStructure, orUndefined } from '../errors'
import { alignUp } from '../bytes/size'
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

/**
 * A volume that claims more than its partition has, opened for looking at its files: it counts as damaged, and what of
 * a file lies behind the end does not read. Undefined where it claims no more than there is. Rejects as the driver does.
 */
export async function openCutOff(driver: FileSystemDriver, volume: BlockDevice): Promise<FileSystem | undefined> {
  const claimed = await driver.claimedBytes?.(volume)
  if (claimed === undefined || claimed <= volume.size) return undefined
  const size = alignUp(claimed, volume.logicalSectorSize)
  const opened = await driver.open(new CutOffDevice(volume, size))
  return { ...opened, mapUnsure: undefined, state: 'damaged', totalBytes: volume.size }
}

/** The volume for looking at its files, also where it was cut off. Rejects as `openFileSystem` does. */
export async function openForReading(volume: BlockDevice): Promise<FileSystem | undefined> {
  const driver = await recognise(volume)
  try {
    return await driver?.open(volume)
  } catch (error) {
    const cutOff = error instanceof BadStructure ? await openCutOff(driver!, volume).catch(orUndefined) : undefined
    if (!cutOff) throw error
    return cutOff
  }
}
