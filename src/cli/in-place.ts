import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import type { SeenDevice } from '@/core/things/drive'
import { driveOfNumber, seenDevice } from '@/host/devices/describe'
import type { HostImage } from '@/host/images'
import { RawFile } from '@/host/raw-file'
import type { Io } from './commands'
import { openByPlate, type Read, refuseSource, tableSeen } from './onto-device'
import { expectRaw, withImage, WrongUse } from './open'

// What is changed where it lies: a raw image, or a drive of this computer.

/** How a drive of this computer is changed in its place; an image needs none of it. */
export interface InPlaceOptions {
  readonly sectorSize?: 512 | 4096
  /** Nothing is written, so that nothing has to be kept. */
  readonly dryRun?: boolean
  readonly plate?: string
  /** A folder for what stood on a drive before; an image has it beside itself. */
  readonly journals?: string
}

export interface OpenInPlace {
  readonly device: BlockDevice
  close(): Promise<void>
}

export interface InPlace {
  /** As it was given. */
  readonly file: string
  readonly sectorSize: 512 | 4096
  /** What the names of its journals begin with. */
  readonly beside: string
  /** Opens it to be written. Rejects with WrongUse or CoreError, nothing written. */
  open(): Promise<OpenInPlace>
}

/**
 * What a file or device is to a command that changes it in its place, by what was opened of it for reading. `source` is
 * what is read meanwhile. Throws WrongUse where a drive has no place for its journals, and CoreError for what is not
 * written in its place.
 */
export async function inPlaceOf(
  file: string,
  image: HostImage,
  { plate, journals, dryRun }: InPlaceOptions,
  io: Pick<Io, 'warn'>,
  source?: Read,
): Promise<InPlace> {
  const { deviceNumber } = image
  if (deviceNumber === undefined) {
    const sectorSize = expectRaw(image).logicalSectorSize
    const open = async () => {
      const device = await RawFile.open(file, sectorSize)
      return { device, close: () => device.close() }
    }
    return { file, sectorSize, beside: file, open }
  }
  const drive = await driveOfNumber(deviceNumber)
  if (!drive) throw new CoreError(`${file} is a partition; what is changed in its place is a whole drive.`)
  if (source) await refuseSource(drive, source)
  if (journals === undefined && !dryRun)
    throw new WrongUse(
      `What stood on ${file} before is kept on another one: --journals FOLDER says where, and finds it there again.`,
    )
  const expected = seenDevice(drive)
  const sectorSize = image.device.logicalSectorSize
  const named = `${drive.model} ${drive.serial ?? drive.sizeBytes / sectorSize}`
  return {
    file,
    sectorSize,
    beside: journals === undefined ? file : path.join(journals, named.replace(/[^\w.-]+/g, '-').slice(0, 100)),
    open: () => openDevice(file, { plate, expected, source }, io),
  }
}

/** The same, for a command that does not look into it before. */
export function inPlace(file: string, options: InPlaceOptions, io: Pick<Io, 'warn'>, source?: Read): Promise<InPlace> {
  return withImage(file, { sectorSize: options.sectorSize }, (image) => inPlaceOf(file, image, options, io, source))
}

async function openDevice(
  file: string,
  asked: { readonly plate?: string; readonly expected: SeenDevice; readonly source?: Read },
  io: Pick<Io, 'warn'>,
): Promise<OpenInPlace> {
  const device = await openByPlate(file, asked)
  const close = async () => {
    const left = await tableSeen(device)
    await device.close()
    if (left !== undefined) io.warn(left)
  }
  return { device, close }
}
