import { CoreError } from '@/core/errors'
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
