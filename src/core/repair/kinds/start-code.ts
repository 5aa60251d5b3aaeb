import { readBytes } from '../../block/device'
import { groupDigits } from '../../bytes/size'
import { CoreError } from '../../errors'
import type { RepairKind } from '../port'
import { patchesOf } from '../written'

/** Code in front of the first partition belongs to no file; what the survey read of the old drive is put back. */
export const startCode: RepairKind = {
  name: 'start-code',
  title: 'Put back the start-up code as the old drive had it',
  async plan({ candidate, device, startCode: kept }) {
    if (candidate.reading.scheme !== 'mbr') throw new CoreError('Only a drive with an MBR is started by such code.')
    if (!kept) throw new CoreError('The start-up code of the old drive is not at hand here.')
    const sector = device.logicalSectorSize
    const first = Math.min(...candidate.reading.partitions.map((p) => p.firstLba))
    if (sector + kept.gap.length > first * sector) {
      throw new CoreError(
        `The code takes ${groupDigits(kept.gap.length)} bytes in front of the first partition, and there are ${groupDigits((first - 1) * sector)}.`,
      )
    }
    const patches = await patchesOf(device, async (overlay) => {
      const head = (await readBytes(device, 0, sector)).slice()
      head.set(kept.first)
      await overlay.write(0, head)
      const gap = new Uint8Array((first - 1) * sector)
      gap.set(kept.gap)
      if (gap.length > 0) await overlay.write(sector, gap)
    })
    if (patches.length === 0) return { changes: [], patches }
    return {
      changes: [
        'The first 440 bytes of sector 0 are those of the old drive; its table and signature stay as they are.',
        `Behind it, up to the first partition: ${kept.gap.length > 0 ? `${groupDigits(kept.gap.length)} bytes of code and then zeros` : 'zeros'}.`,
      ],
      patches,
    }
  },
}
