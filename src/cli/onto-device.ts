import { realpath } from 'node:fs/promises'
import { surveyDrive } from '@/core/survey/survey'
import type { SeenDevice } from '@/core/things/drive'
import { backingOf, driveOfNumber, type KernelDrive, plateText } from '@/host/devices/describe'
import { KernelDevice } from '@/host/devices/device-file'
import type { HostImage } from '@/host/images'
import { sha256 } from '@/host/sha256'
import type { Onto } from './onto'
import { WrongUse } from './open'

interface OntoDevice {
  readonly plate?: string
  readonly overwrite?: boolean
  readonly resume?: boolean
}

/** What is read while a drive is written. */
export type Read = Pick<HostImage, 'paths' | 'deviceNumber'>

/**
 * Opens a drive of this computer to be written over: one that nothing uses, whose plate was typed, and that is not what
 * is read. Rejects with WrongUse or CoreError, nothing written.
 */
export async function openDeviceTarget(
  file: string,
  source: Read,
  { plate, overwrite, resume }: OntoDevice,
): Promise<Onto> {
  const device = await openByPlate(file, { plate, source })
  try {
    if (!overwrite && !resume) {
      const { scheme, findings } = await surveyDrive(device, sha256)
      if (scheme !== 'none' || findings.length > 0)
        throw new WrongUse(`${file} is not empty. With --overwrite all that it holds is lost.`)
    }
    return { device, called: file, after: () => tableSeen(device), close: () => device.close() }
  } catch (error) {
    await device.close()
    throw error
  }
}

/**
 * Opens a drive of this computer for writing: one that nothing uses, whose plate was typed, that is the one that is
 * expected where one is, and that is not what is read. Rejects with WrongUse or CoreError, nothing written.
 */
export async function openByPlate(
  file: string,
  { plate, expected, source }: { readonly plate?: string; readonly expected?: SeenDevice; readonly source?: Read },
): Promise<KernelDevice> {
  const device = await KernelDevice.openTarget(file, expected)
  try {
    const drive = device.drive!
    if (source) await refuseSource(drive, source)
    const wanted = plateText(drive, device.logicalSectorSize)
    const of = drive.serial === null ? 'number of sectors, as it has no serial' : 'serial'
    if (plate === undefined)
      throw new WrongUse(
        `Writing to ${file}, ${drive.model}, needs --plate with the last four characters of its ${of}. "imbarco drives" lists them.`,
      )
    if (plate.trim().toUpperCase() !== wanted)
      throw new WrongUse(
        `--plate ${plate} is not the end of the ${of} of ${file}, ${drive.model}. Nothing was written.`,
      )
    return device
  } catch (error) {
    await device.close()
    throw error
  }
}

/** The system sees the new partitions, or it is said that it does not yet. */
export async function tableSeen(device: KernelDevice): Promise<string | undefined> {
  if (await device.readTable()) return undefined
  return `The system still has the old partitions of ${device.path}; it sees the new ones once the drive was plugged in anew.`
}

/** What is read is never written, under whatever name: the drive, a partition of it, or the file behind a loop device. */
export async function refuseSource(target: KernelDrive, { paths, deviceNumber }: Read): Promise<void> {
  const no = new WrongUse('The target is the source itself, or what it lies on, which is never written.')
  const backing = await backingOf(target)
  for (const file of paths) if (backing !== undefined && (await realpath(file)) === backing) throw no
  if (deviceNumber === undefined) return
  const source = await driveOfNumber(deviceNumber)
  if (deviceNumber === target.number || source?.number === target.number) throw no
  const behind = source && (await backingOf(source))
  if (behind !== undefined && behind === backing) throw no
}
