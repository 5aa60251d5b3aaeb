import { sliceOf } from '../../boot/start'
import { OverlayDevice } from '../../block/overlay'
import { formatSize } from '../../bytes/size'
import { CoreError } from '../../errors'
import { recognise } from '../../filesystem'
import type { RepairKind } from '../port'
import { expectResizable, systemPlace } from '../places'
import { changesBetween } from '../written'

/** A partition may be larger than the file system in it, which then leaves the rest unused. */
export const volumeSize: RepairKind = {
  name: 'volume-size',
  title: 'Take the system volume up to its partition',
  async plan(subject) {
    const { device } = subject
    const { partition, volume } = await systemPlace(subject)
    const slice = sliceOf(device, partition)
    // One sector may stay outside for the copy of the first one, and less than a cluster is no room.
    if (slice.size - volume.totalBytes <= volume.clusterSize + device.logicalSectorSize)
      return { changes: [], patches: [] }
    await expectResizable(device, partition)
    const driver = await recognise(slice)
    if (!driver?.resize) throw new CoreError(`A volume of ${volume.name} keeps the size it has.`)
    const grown = await driver.resize(slice, slice.size)
    if (!(grown instanceof OverlayDevice)) throw new CoreError('The volume would have to be laid out anew.')
    const start = partition.firstLba * device.logicalSectorSize
    const patches = await changesBetween(slice, grown)
    return {
      changes: [
        `The file system of partition ${partition.number} grows from ${formatSize(volume.totalBytes)} to the partition’s ${formatSize(slice.size)}; no file moves.`,
      ],
      patches: patches.map((p) => ({ ...p, offset: start + p.offset })),
    }
  },
}
