import { readBytes } from '../../block/device'
import { sliceOf } from '../../boot/start'
import { CoreError, orUndefined } from '../../errors'
import { openFileSystem } from '../../filesystem'
import { MBR_RECORD, MBR_RECORDS_OFFSET, STATUS_ACTIVE } from '../../scheme/mbr-layout'
import { BIOS_LOADER_PATH } from '../../survey/known-systems'
import type { RepairKind } from '../port'

/** A BIOS goes on with the one partition that is marked. */
export const activePartition: RepairKind = {
  name: 'active-partition',
  title: 'Mark the partition with the loader as the active one',
  async plan({ candidate, device }) {
    if (candidate.reading.scheme !== 'mbr') throw new CoreError('Only an MBR marks a partition as active.')
    const primary = candidate.reading.partitions.filter((p) => p.mbr?.kind === 'primary')
    const fitting: typeof primary = []
    for (const partition of primary) {
      const volume = await openFileSystem(sliceOf(device, partition)).catch(orUndefined)
      if (volume?.depth === 'files' && (await volume.stat(BIOS_LOADER_PATH))?.kind === 'file') fitting.push(partition)
    }
    if (fitting.length !== 1) {
      throw new CoreError(
        fitting.length === 0
          ? `No primary partition holds ${BIOS_LOADER_PATH}.`
          : `Partitions ${fitting.map((p) => p.number).join(' and ')} hold ${BIOS_LOADER_PATH}; which one is meant cannot be told.`,
      )
    }
    const [{ number }] = fitting
    const before = (await readBytes(device, 0, device.logicalSectorSize)).slice()
    const after = before.slice()
    for (let i = 0; i < 4; i++) {
      MBR_RECORD.write(
        after,
        { status: i === number - 1 ? STATUS_ACTIVE : 0 },
        MBR_RECORDS_OFFSET + i * MBR_RECORD.size,
      )
    }
    if (before.every((byte, i) => byte === after[i])) return { changes: [], patches: [] }
    return {
      changes: [`In sector 0, partition ${number} gets the mark 80, and every other record loses it.`],
      patches: [{ offset: 0, before, after }],
    }
  },
}
