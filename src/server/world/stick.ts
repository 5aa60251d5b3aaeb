import { existsSync } from 'node:fs'
import path from 'node:path'
import { sliceOf } from '@/core/boot/start'
import { type DriverFolder, driversIn } from '@/core/drivers/packages'
import { orUndefined } from '@/core/errors'
import { openFileSystem } from '@/core/filesystem'
import { readScheme } from '@/core/scheme'
import type { BenchState } from '@/core/things/bench'
import { openHostImage } from '@/host/images'
import { imagesFolder } from '../ground/paths'

/**
 * Hands the drivers on the bench's stick to `work`; undefined where there is no stick, or nothing is known of
 * what is on it. They can be read as long as `work` runs.
 */
export async function withStickDrivers<T>(
  { accessories }: BenchState,
  work: (folder: DriverFolder | undefined) => Promise<T>,
): Promise<T> {
  const image = accessories.flatMap((a) => (a.kind === 'stick' && a.image !== null ? [a.image] : [])).at(0)
  const file = image && path.join(imagesFolder(), path.basename(image))
  if (!file || !existsSync(/* turbopackIgnore: true */ file)) return work(undefined)
  const opened = await openHostImage(file, { sectorSize: 512 }).catch(orUndefined)
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
