import type { BlockDevice, Extent } from '../block/device'
import { SliceDevice } from '../block/slice'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import { readScheme } from '../scheme'

/**
 * Where the volumes of a drive keep what they know about their files, in whole sectors of the drive. What cannot be
 * read or is not understood has none.
 */
export async function* metadataExtents(device: BlockDevice): AsyncGenerator<Extent> {
  const sector = device.logicalSectorSize
  const reading = await readScheme(device).catch(() => undefined)
  const whole = [{ offset: 0, length: device.size }]
  const parts = reading?.partitions
    .filter((p) => p.mbr?.kind !== 'extended')
    .map((p) => ({ offset: p.firstLba * sector, length: (p.lastLba - p.firstLba + 1) * sector }))
    .filter(({ offset, length }) => length > 0 && offset + length <= device.size)
  for (const { offset, length } of parts ?? whole) {
    try {
      const volume = await openFileSystem(new SliceDevice(device, offset, length))
      for await (const extent of volume?.metadata?.() ?? []) {
        const from = Math.floor(extent.offset / sector) * sector
        const to = Math.min(length, Math.ceil((extent.offset + extent.length) / sector) * sector)
        if (from < to) yield { offset: offset + from, length: to - from }
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
    }
  }
}
