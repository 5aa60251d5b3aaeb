import { type BlockDevice, readBytes } from '../../block/device'
import { OverlayDevice } from '../../block/overlay'
import { alignDown, formatSize, MIB } from '../../bytes/size'
import { CoreError } from '../../errors'
import { recognise } from '../../filesystem'
import type { Candidate } from '../../boot/start'
import { SliceDevice } from '../../block/slice'
import { gptWrites, usableRange } from '../../scheme/gpt'
import { MBR_RECORD, MBR_RECORDS_OFFSET, MBR_SECTORS, MBR_TYPES } from '../../scheme/mbr-layout'
import { type TablePartition, TYPE_GUIDS } from '../../scheme/types'
import type { RepairKind } from '../port'
import { expectResizable } from '../places'
import { changesBetween } from '../written'

/** Free sectors right behind a partition that could take them. */
export interface RoomBehind {
  readonly partition: TablePartition
  /** What the partition's last sector would be. */
  readonly lastLba: number
  readonly bytes: number
}

/** What a start and a rescue rest on keeps its size. */
const KEPT_TYPES: ReadonlySet<string> = new Set([TYPE_GUIDS.efiSystem, TYPE_GUIDS.reserved, TYPE_GUIDS.recovery])
const KEPT_MBR_TYPES: ReadonlySet<number> = new Set([MBR_TYPES.recovery, MBR_TYPES.efiSystem])

/** The largest free room, of 1 MiB and more, that lies right behind a partition; undefined where there is none. */
export function roomBehind({ reading, drive: { device } }: Candidate): RoomBehind | undefined {
  const sector = device.logicalSectorSize
  const end =
    reading.scheme === 'gpt'
      ? usableRange(device.size, sector).lastLba
      : Math.min(device.size / sector, MBR_SECTORS) - 1
  const ordered = reading.partitions.filter((p) => p.mbr?.kind !== 'logical').sort((a, b) => a.firstLba - b.firstLba)
  let best: RoomBehind | undefined
  for (const [i, partition] of ordered.entries()) {
    if (partition.mbr?.kind === 'extended' || KEPT_TYPES.has(partition.typeGuid)) continue
    if (partition.mbr && KEPT_MBR_TYPES.has(partition.mbr.type)) continue
    const next = ordered[i + 1]?.firstLba ?? end + 1
    const lastLba = alignDown(next, MIB / sector) - 1
    const bytes = (lastLba - partition.lastLba) * sector
    if (bytes >= MIB && bytes > (best?.bytes ?? 0)) best = { partition, lastLba, bytes }
  }
  return best
}

/** What a fit left free, or a smaller partition behind it, can be had by the one in front of it. */
export const takeUpRoom: RepairKind = {
  name: 'take-up-room',
  title: 'Take the unallocated room up into the volume in front of it',
  async plan({ candidate, device }) {
    const room = roomBehind(candidate)
    if (!room) return { changes: [], patches: [] }
    const { partition, lastLba, bytes } = room
    const sector = device.logicalSectorSize
    const overlay = new OverlayDevice(device)
    await writeEnd(overlay, candidate, partition, lastLba)
    await expectResizable(device, partition)
    const slice = new SliceDevice(overlay, partition.firstLba * sector, (lastLba - partition.firstLba + 1) * sector)
    const driver = await recognise(slice)
    if (!driver?.resize) {
      throw new CoreError(
        `The room lies behind partition ${partition.number}, whose content cannot be made larger here.`,
      )
    }
    const grown = await driver.resize(slice, slice.size)
    if (!(grown instanceof OverlayDevice)) throw new CoreError('The volume would have to be laid out anew.')
    for (const { offset, after } of await changesBetween(slice, grown)) await slice.write(offset, after)
    return {
      changes: [
        `Partition ${partition.number} ends ${formatSize(bytes)} later, at sector ${lastLba}; its file system takes that up. No file moves.`,
      ],
      patches: await changesBetween(device, overlay),
      grows: { partition: partition.number, sizeBytes: slice.size },
    }
  },
}

async function writeEnd(
  overlay: BlockDevice,
  { reading }: Candidate,
  partition: TablePartition,
  lastLba: number,
): Promise<void> {
  const sector = overlay.logicalSectorSize
  if (reading.scheme === 'gpt') {
    const { table } = reading.gpt
    const partitions = table.partitions.map((p) => (p.number === partition.number ? { ...p, lastLba } : p))
    for (const { offset, bytes } of gptWrites(overlay.size, sector, { ...table, partitions }))
      // The first sector only protects the table, and stays.
      if (offset > 0) await overlay.write(offset, bytes)
    return
  }
  const head = (await readBytes(overlay, 0, sector)).slice()
  const sectors = lastLba - partition.firstLba + 1
  MBR_RECORD.write(head, { sectors }, MBR_RECORDS_OFFSET + (partition.number - 1) * MBR_RECORD.size)
  await overlay.write(0, head)
}
