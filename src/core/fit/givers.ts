import { MIB } from '../bytes/size'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { limitsOf } from './limits'

/** A partition that could be made smaller where it lies, so that a volume gets a new partition behind it. */
export interface Giver {
  readonly number: number
  readonly title: string
  /** Bytes that are missing behind it, and what it has to spare by what was read of it. */
  readonly missing: number
  readonly spare: number
}

/**
 * Partitions of a drive that could give a volume of `needs` bytes the room which it lacks there, by what was read of them;
 * whether their records let them is only known when it is planned. Those that have most to spare first.
 */
export function giversFor(target: DriveSurvey, needs: number): Giver[] {
  return target.partitions
    .flatMap((giver): Giver[] => {
      const limits = limitsOf(giver)
      const spare = giver.sizeBytes - limits.least
      if (!giver.volume?.canShrink || limits.notNow || giver.mbr?.kind === 'logical') return []
      const has = gapBehind(target, giver)
      // Both ends stand on whole mebibytes.
      const missing = needs - has + 2 * MIB
      const { number, title } = giver
      return has < needs && spare >= missing ? [{ number, title, missing, spare }] : []
    })
    .sort((a, b) => b.spare - a.spare)
}

function gapBehind(
  { gaps, logicalSectorSize: sector }: DriveSurvey,
  { startBytes, sizeBytes }: PartitionSurvey,
): number {
  const end = (startBytes + sizeBytes) / sector
  const gap = gaps.find(({ firstLba, lastLba }) => firstLba <= end && lastLba >= end)
  return gap ? (gap.lastLba + 1 - end) * sector : 0
}
