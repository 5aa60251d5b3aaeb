import { readBytes } from '../../block/device'
import { groupDigits } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { HIDDEN_SECTORS_OFFSET } from '../../survey/known-systems'
import { bootPlace } from '../places'
import type { Patch, RepairKind } from '../port'

/** A start-up sector adds the sectors in front of its partition to all it reads. */
export const hiddenSectors: RepairKind = {
  name: 'hidden-sectors',
  title: 'Set the count of sectors in front of the boot partition',
  async plan(subject) {
    const { device } = subject
    const { partition, volume } = await bootPlace(subject)
    if (volume.kind !== 'ntfs' && !volume.kind.startsWith('fat'))
      throw new CoreError(`A start-up sector of ${volume.name} keeps no such count.`)
    const sector = device.logicalSectorSize
    const first = partition.firstLba * sector
    // NTFS keeps a copy of its first sector in the partition's last, FAT32 in its sixth.
    const places = [first]
    if (volume.kind === 'ntfs') places.push((partition.lastLba + 1) * sector - sector)
    if (volume.kind === 'fat32') places.push(first + 6 * sector)
    const main = (await readBytes(device, first, sector)).slice()
    const found = viewOf(main).getUint32(HIDDEN_SECTORS_OFFSET, true)
    if (found === partition.firstLba) return { changes: [], patches: [] }
    const patches: Patch[] = []
    for (const offset of places) {
      const before = (await readBytes(device, offset, sector)).slice()
      // A copy that is not one is left alone.
      if (before.subarray(0, 11).some((byte, i) => byte !== main[i])) continue
      const after = before.slice()
      viewOf(after).setUint32(HIDDEN_SECTORS_OFFSET, partition.firstLba, true)
      patches.push({ offset, before, after })
    }
    return {
      changes: [
        `In the first sector of partition ${partition.number}${patches.length > 1 ? ' and its copy' : ''}, byte ${HIDDEN_SECTORS_OFFSET}: ${groupDigits(found)} becomes ${groupDigits(partition.firstLba)}.`,
      ],
      patches,
    }
  },
}
