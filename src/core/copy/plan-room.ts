import type { BlockDevice } from '../block/device'
import { alignUp, formatSize, MIB } from '../bytes/size'
import { CoreError } from '../errors'
import { asShrunk, planShrink, type ShrinkPlan } from '../repair/shrink-in-place'
import { resizeEntry } from '../scheme/entry'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { volumeOf } from './put-volume'

export interface Room {
  /** The drive as it will be; itself where there is room already. */
  readonly drive: BlockDevice
  readonly plan?: ShrinkPlan
}

/**
 * Works out how a volume of `bytes` gets room on a drive by making a neighbour smaller: in front of the partition `into`,
 * which then begins earlier, or else in the unallocated space behind the neighbour. Nothing is written. Rejects with
 * CoreError where they do not lie so, and as `planShrink` does.
 */
export async function planRoom(
  drive: BlockDevice,
  survey: DriveSurvey,
  { neighbour, into, bytes }: { readonly neighbour: number; readonly into?: number; readonly bytes: number },
): Promise<Room> {
  const sector = drive.logicalSectorSize
  const step = MIB / sector
  const giver = volumeOf(survey, neighbour, 'target')
  const firstOf = (p: PartitionSurvey) => p.startBytes / sector
  const endOf = (p: PartitionSurvey) => (p.startBytes + p.sizeBytes) / sector
  const behind = survey.partitions
    .filter((p) => p.role !== 'extended' && p.startBytes > giver.startBytes)
    .sort((a, b) => a.startBytes - b.startBytes)
  const prepared = into === undefined ? undefined : volumeOf(survey, into, 'target')
  if (prepared && behind[0]?.number !== into)
    throw new CoreError(
      `Partition ${neighbour} does not lie right in front of partition ${into}, so it has no room to give it. Nothing was written.`,
    )
  const gap = survey.gaps.find(({ firstLba, lastLba }) => firstLba <= endOf(giver) && lastLba >= endOf(giver))
  const end = prepared ? endOf(prepared) : gap ? gap.lastLba + 1 : endOf(giver)
  const first = Math.floor((Math.floor(end / step) * step - alignUp(bytes, MIB) / sector) / step) * step
  const free = prepared ? firstOf(prepared) : endOf(giver)
  if (first >= free) return { drive }
  const moveStart = async (table: BlockDevice) => {
    if (into !== undefined) await resizeEntry(table, into, { firstLba: first })
  }
  if (first <= firstOf(giver))
    throw new CoreError(
      `Partition ${neighbour} is smaller than what is missing, ${formatSize((free - first) * sector)}. Nothing was written.`,
    )
  const size = Math.min(giver.sizeBytes, (first - firstOf(giver)) * sector)
  const plan = await planShrink(drive, neighbour, size, moveStart)
  return { drive: await asShrunk(drive, plan), plan }
}
