import { SliceDevice } from '@/core/block/slice'
import { CoreError } from '@/core/errors'
import { type FileSystem, openFileSystem } from '@/core/filesystem'
import { readScheme } from '@/core/scheme'
import { type HostImage, openHostImage } from '@/host/images'

/** The command was given something it cannot work with. */
export class WrongUse extends CoreError {
  override readonly name = 'WrongUse'
}

/** Opens an image, hands it to `work` and closes it. Rejects with CoreError when it was changed meanwhile. */
export async function withImage<T>(
  file: string,
  sectorSize: 512 | 4096 | undefined,
  work: (image: HostImage) => Promise<T>,
): Promise<T> {
  const image = await openHostImage(file, { sectorSize })
  try {
    const result = await work(image)
    if (await image.changed())
      throw new CoreError(`${file} was changed while it was read, so nothing about it is sure.`)
    return result
  } finally {
    await image.close()
  }
}

/** The file system on a partition. Rejects with WrongUse where there is none of that number, CoreError where nothing known is on it. */
export async function fileSystemOn(image: HostImage, number: number): Promise<FileSystem> {
  const { device } = image
  const reading = await readScheme(device)
  const entry = reading?.partitions.find((p) => p.number === number)
  if (!entry && (reading || number !== 0)) {
    const numbers = reading?.partitions.map((p) => p.number).join(', ') || 'none'
    throw new WrongUse(`There is no partition ${number}; there are: ${reading ? numbers : '0, the whole drive'}.`)
  }
  const sector = device.logicalSectorSize
  const start = entry ? entry.firstLba * sector : 0
  const size = entry ? (entry.lastLba - entry.firstLba + 1) * sector : device.size
  if (size <= 0 || start >= device.size) throw new CoreError(`Partition ${number} lies outside the drive.`)
  const fileSystem = await openFileSystem(new SliceDevice(device, start, Math.min(size, device.size - start)))
  if (!fileSystem) throw new CoreError(`Nothing on partition ${number} is a file system that is known here.`)
  return fileSystem
}
