import { readBytes } from '../../block/device'
import { sameBytes } from '../../bytes/same'
import { CoreError } from '../../errors'
import { gptWrites } from '../../scheme/gpt'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SECTORS, MBR_TYPES } from '../../scheme/mbr-layout'
import type { Patch, RepairKind } from '../port'

/** A drive that grew, or was cut, has the second copy of its GPT in the wrong place or none. */
export const backupTable: RepairKind = {
  name: 'backup-table',
  title: 'Write both copies of the partition table where they belong',
  async plan({ candidate, device }) {
    if (candidate.reading.scheme !== 'gpt') throw new CoreError('Only a GPT has a second copy.')
    const { gpt } = candidate.reading
    const lastLba = device.size / device.logicalSectorSize - 1
    const agree = gpt.primary.table && gpt.backup.table && gpt.primary.entriesCrc === gpt.backup.entriesCrc
    if (agree && gpt.backup.lba === lastLba) return { changes: [], patches: [] }
    const patches: Patch[] = []
    // The first sector may hold code: there only the length that protects the drive is set.
    const first = (await readBytes(device, 0, device.logicalSectorSize)).slice()
    const protecting = [0, 1, 2, 3].find(
      (i) => MBR_RECORD.read(first, MBR_RECORDS_OFFSET + i * MBR_RECORD.size).type === MBR_TYPES.protective,
    )
    if (protecting !== undefined) {
      const after = first.slice()
      const sectors = Math.min(lastLba, MBR_SECTORS)
      MBR_RECORD.write(after, { sectors }, MBR_RECORDS_OFFSET + protecting * MBR_RECORD.size)
      if (!sameBytes(first, after)) patches.push({ offset: 0, before: first, after })
    }
    for (const { offset, bytes } of gptWrites(device.size, device.logicalSectorSize, gpt.table)) {
      if (offset === 0) continue
      const before = (await readBytes(device, offset, bytes.length)).slice()
      if (before.some((byte, i) => byte !== bytes[i])) patches.push({ offset, before, after: bytes })
    }
    return {
      changes: [`The ${gpt.from} copy of the table is written to both places, the second ending at sector ${lastLba}.`],
      patches,
    }
  },
}
