import { realpath } from 'node:fs/promises'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { FaultyDevice, type LostRun, CorruptingDevice } from '@/core/block/faulty'
import { ReadCacheDevice } from '@/core/block/read-cache'
import { CoreError } from '@/core/errors'
import { openHostImage } from '@/host/images'
import { openLent } from '@/host/lent'
import { isWrittenInPlace, openInPlace } from '@/host/in-place-image'
import { SparseFileDevice } from './sparse-file'

/** What opening a drive of the bench needs. It is plain, so that it can go to a worker. */
export interface DriveBytes {
  /** Path of the file. */
  readonly file: string
  /** The file is an image of some format, not a drive of the bench's own. */
  readonly isImage: boolean
  /** The folder that an image has to lie in, with all that it builds on, wherever its name leads. */
  readonly within?: string
  /** It is lent by another bench, and `file` is its address; another text whenever its bytes may be others. */
  readonly lent?: string
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

/**
 * Opens a drive of the bench. For writing only when it is the target of a copy or of a repair; an image then has to be
 * raw, since only there a sector has its place beforehand. `inPlace`: or a VHDX, which grows where it has no place for
 * something yet. `onLink`: told when the connection to one that another bench lends is lost and there again. Rejects with
 * CoreError.
 */
export async function openDrive(
  drive: DriveBytes,
  { writable, inPlace = false, onLink }: { writable: boolean; inPlace?: boolean; onLink?: (isThere: boolean) => void },
): Promise<OpenDrive> {
  const { file, isImage, within, lent, logicalSectorSize, physicalSectorSize } = drive
  if (lent !== undefined) {
    const { device, close } = await openLent(file, {
      ...{ writable, sectorSize: logicalSectorSize, onLink },
      ...{ now: true, patienceMs: LINK_PATIENCE_MS, idleMs: LINK_PATIENCE_MS },
    })
    return { device: withFaults(device, drive), files: [], close }
  }
  if (isImage) {
    const image = await openHostImage(file, { sectorSize: logicalSectorSize, within })
    if (within !== undefined && path.dirname(await realpath(file)) !== (await realpath(within))) {
      await image.close()
      throw new CoreError(`${path.basename(file)} leads out of the images folder and is not opened.`)
    }
    if (!writable) return { device: withFaults(image.device, drive), files: image.paths, close: () => image.close() }
    const { kind, name, paths } = image
    if (inPlace && isWrittenInPlace(image)) {
      const reopen = () => openHostImage(file, { sectorSize: logicalSectorSize, within })
      const { device, close } = await openInPlace(file, path.basename(file), image, reopen).catch(
        async (error: unknown) => {
          await image.close()
          throw error
        },
      )
      return { device: withFaults(device, drive), files: paths, close }
    }
    await image.close()
    if (kind !== 'raw')
      throw new CoreError(`Only a raw image can be written to, and this one is ${name}. Nothing was written.`)
  }
  const opened = await SparseFileDevice.open(file, { writable, logicalSectorSize, physicalSectorSize })
  return { device: withFaults(opened, drive), files: [file], close: () => opened.close() }
}

/** A lost connection to another bench is taken up again for so long before it counts as lost. */
const LINK_PATIENCE_MS = 6000

/** Opens a drive of the bench to look around in it, with nothing written. Rejects with CoreError. */
export async function openToLook(drive: DriveBytes): Promise<OpenDrive> {
  const opened = await openDrive(drive, { writable: false })
  return { ...opened, device: new ReadCacheDevice(opened.device) }
}

function withFaults(device: BlockDevice, { unreadable, misstores = [] }: DriveBytes): BlockDevice {
  const reading = unreadable.length > 0 ? new FaultyDevice(device, unreadable) : device
  return misstores.length > 0 ? new CorruptingDevice(reading, misstores) : reading
}
