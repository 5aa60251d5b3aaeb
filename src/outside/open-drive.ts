import { realpath } from 'node:fs/promises'
import path from 'node:path'
import { withFaults } from '@/bench/faults'
import { SparseFileDevice } from '@/bench/sparse-file'
import type { BlockDevice } from '@/core/block/device'
import type { LostRun } from '@/core/block/faulty'
import { ReadCacheDevice } from '@/core/block/read-cache'
import { CoreError } from '@/core/errors'
import type { SeenDevice } from '@/core/things/drive'
import { KernelDevice } from '@/host/devices/device-file'
import { openHostImage } from '@/host/images'
import { isWrittenInPlace, openInPlace } from '@/host/in-place-image'
import { openLent } from '@/host/lent'

/** What opening a drive needs. It is plain, so that it can go to a worker. */
export interface DriveBytes {
  /** A simulated drive by a file of its own, or by an image; one that another bench lends; one that the kernel has. */
  readonly by: 'file' | 'image' | 'network' | 'kernel'
  /** Path of the file or of the device; the address of what is lent. */
  readonly file: string
  /** The folder that an image has to lie in, with all that it builds on, wherever its name leads. */
  readonly within?: string
  /** Of what no file tells when it was changed: another text whenever its bytes may be others. */
  readonly stamp?: string
  /** Which device of this computer it is, whatever its path leads to by now. */
  readonly device?: SeenDevice
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  /** Where the drive no longer reads. */
  readonly unreadable: readonly LostRun[]
  /** Where it stores something else than was written. */
  readonly misstores?: readonly LostRun[]
}

export interface OpenDrive {
  readonly device: BlockDevice
  /** Every file that its bytes lie in. */
  readonly files: readonly string[]
  close(): Promise<void>
}

export interface OpenWish {
  readonly writable: boolean
  /** Of an image: or a VHDX, which grows where it has no place for something yet. */
  readonly inPlace?: boolean
  /** Told when the connection to one that another bench lends is lost and there again. */
  readonly onLink?: (isThere: boolean) => void
}

/** How drives are opened, by what they are: a further kind of the world outside is a line here. */
const OPENERS: Record<DriveBytes['by'], (drive: DriveBytes, wish: OpenWish) => Promise<OpenDrive>> = {
  file: openFile,
  image: openImageOf,
  network: openNetwork,
  kernel: openKernel,
}

/**
 * Opens a drive of the bench. For writing only when it is the target of a copy or of a repair; an image then has to be
 * raw, since only there a sector has its place beforehand. Rejects with CoreError.
 */
export async function openDrive(drive: DriveBytes, wish: OpenWish): Promise<OpenDrive> {
  const opened = await OPENERS[drive.by](drive, wish)
  return { ...opened, device: withFaults(opened.device, drive) }
}

/** A lost connection to another bench is taken up again for so long before it counts as lost. */
const LINK_PATIENCE_MS = 6000

/** Opens a drive of the bench to look around in it, with nothing written. Rejects with CoreError. */
export async function openToLook(drive: DriveBytes): Promise<OpenDrive> {
  const opened = await openDrive(drive, { writable: false })
  return { ...opened, device: new ReadCacheDevice(opened.device) }
}

async function openFile(
  { file, logicalSectorSize, physicalSectorSize }: DriveBytes,
  { writable }: OpenWish,
): Promise<OpenDrive> {
  const device = await SparseFileDevice.open(file, { writable, logicalSectorSize, physicalSectorSize })
  return { device, files: [file], close: () => device.close() }
}

async function openNetwork(
  { file, logicalSectorSize: sectorSize }: DriveBytes,
  { writable, onLink }: OpenWish,
): Promise<OpenDrive> {
  const { device, close } = await openLent(file, {
    ...{ writable, sectorSize, onLink },
    ...{ now: true, patienceMs: LINK_PATIENCE_MS, idleMs: LINK_PATIENCE_MS },
  })
  return { device, files: [], close }
}

async function openKernel({ file, device: expected }: DriveBytes, { writable }: OpenWish): Promise<OpenDrive> {
  if (!writable) {
    const device = await KernelDevice.open(file, expected)
    return { device, files: [], close: () => device.close() }
  }
  const device = await KernelDevice.openTarget(file, expected)
  const close = async () => {
    // The kernel sees the partitions that are there now; it uses none, since it was open for this alone.
    await device.readTable()
    await device.close()
  }
  return { device, files: [], close }
}

async function openImageOf(drive: DriveBytes, { writable, inPlace = false }: OpenWish): Promise<OpenDrive> {
  const { file, within, logicalSectorSize } = drive
  const image = await openHostImage(file, { sectorSize: logicalSectorSize, within })
  if (within !== undefined && path.dirname(await realpath(file)) !== (await realpath(within))) {
    await image.close()
    throw new CoreError(`${path.basename(file)} leads out of the images folder and is not opened.`)
  }
  if (!writable) return { device: image.device, files: image.paths, close: () => image.close() }
  const { kind, name, paths } = image
  if (inPlace && isWrittenInPlace(image)) {
    const reopen = () => openHostImage(file, { sectorSize: logicalSectorSize, within })
    const { device, close } = await openInPlace(file, path.basename(file), image, reopen).catch(
      async (error: unknown) => {
        await image.close()
        throw error
      },
    )
    return { device, files: paths, close }
  }
  await image.close()
  if (kind !== 'raw')
    throw new CoreError(`Only a raw image can be written to, and this one is ${name}. Nothing was written.`)
  return openFile(drive, { writable })
}
