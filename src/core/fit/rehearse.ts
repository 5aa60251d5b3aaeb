import type { BlockDevice } from '../block/device'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { CoreError } from '../errors'
import { recognise } from '../filesystem'
import { checkMap, mapMissesWords } from '../filesystem/map-check'
import { type FitObstacle, type FitResult, fitSizes, type Layout } from './types'

/**
 * Tries in memory whether the volumes of a drive go into the sizes that a layout gives them. A layout counts bytes; only
 * the volume's own records tell whether files in thousands of pieces find room for the lists of them. Nothing is written.
 * Returns what stands in the way, empty where nothing does.
 */
export async function rehearseFit(source: BlockDevice, layout: Layout): Promise<FitObstacle[]> {
  const obstacles: FitObstacle[] = []
  for (const partition of layout.partitions) {
    const { before, after } = fitSizes(partition, layout)
    if (!partition.resizes) continue
    const slice = new SliceDevice(readOnly(source), partition.sourceFirstLba * layout.sourceSectorSize, before)
    try {
      const driver = await recognise(slice)
      const volume = await driver?.open(slice)
      const check = volume && (await checkMap(volume))
      const misses = check && mapMissesWords(check)
      if (misses !== undefined) throw new CoreError(misses)
      if (after < before) await driver?.resize?.(slice, after)
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      obstacles.push({
        code: 'does-not-resize',
        partition: partition.sourceNumber,
        sentence: `${partition.title} does not go into the size it would get: ${error.message}`,
        mend: 'Give it more room, or keep its size.',
      })
    }
  }
  return obstacles
}

/** A fit that was tried: one that does not go is none. */
export async function rehearsed(source: BlockDevice, result: FitResult): Promise<FitResult> {
  if (!result.fits) return result
  const obstacles = await rehearseFit(source, result.layout)
  return obstacles.length > 0 ? { fits: false, obstacles } : result
}
