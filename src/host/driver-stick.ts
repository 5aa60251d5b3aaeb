import { existsSync } from 'node:fs'
import { sliceOf } from '@/core/boot/start'
import { type DriverFolder, driversIn } from '@/core/drivers/packages'
import { orUndefined } from '@/core/errors'
import { openFileSystem } from '@/core/filesystem'
import { readScheme } from '@/core/scheme'
import { openHostImage } from './images'

/**
 * Hands the drivers in the image of a stick to `work`; undefined where there is none, or nothing is known of what is on
 * it. They can be read as long as `work` runs.
 */
export async function withDriversOf<T>(
  image: string | undefined,
  work: (folder: DriverFolder | undefined) => Promise<T>,
): Promise<T> {
  if (image === undefined || !existsSync(/* turbopackIgnore: true */ image)) return work(undefined)
  const opened = await openHostImage(image, { sectorSize: 512 }).catch(orUndefined)
  if (!opened) return work(undefined)
  try {
    const reading = await readScheme(opened.device)
    const found: DriverFolder[] = []
    for (const partition of reading && reading.scheme !== 'damaged' ? reading.partitions : []) {
      const volume = await openFileSystem(sliceOf(opened.device, partition)).catch(orUndefined)
      if (volume?.depth === 'files') found.push(await driversIn(volume))
    }
    return await work({ packages: found.flatMap((f) => f.packages), unusable: found.flatMap((f) => f.unusable) })
  } finally {
    await opened.close()
  }
}
