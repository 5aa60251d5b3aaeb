import { MIB } from '../bytes/size'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { limitsOf } from './limits'
import { type Into, whyNotPrepared } from './into'

/** A partition that could be made smaller where it lies, so that a volume gets a place behind it. */
export interface Giver {
  readonly number: number
  readonly title: string
  /** What gets the room: the partition right behind it, or an entry of its own. */
  readonly into: Into
  readonly intoTitle: string
  /** Bytes that are missing there, and what the partition has to spare by what was read of it. */
  readonly missing: number
  readonly spare: number
}

/**
 * Partitions of a drive that could give a volume of `needs` bytes the room which it lacks there, by what was read of them;
 * whether their records let them is only known when it is planned. Those that have most to spare first.
 */
export function giversFor(target: DriveSurvey, needs: number): Giver[] {
  const inOrder = target.partitions.filter((p) => p.role !== 'extended').sort((a, b) => a.startBytes - b.startBytes)
  return inOrder
    .flatMap((giver, i): Giver[] => {
      const limits = limitsOf(giver)
      const spare = giver.sizeBytes - limits.least
      if (!giver.volume?.canShrink || limits.notNow || giver.mbr?.kind === 'logical') return []
      const { number, title } = giver
      const behind = inOrder.at(i + 1)
      const places: [Into, string, number][] = [
        ...(behind && behind.mbr?.kind !== 'logical' && !whyNotPrepared(behind)
          ? [[behind.number, behind.title, behind.sizeBytes] as [Into, string, number]]
          : []),
        ['free', 'a new partition', gapBehind(target, giver)],
      ]
      return places.flatMap(([into, intoTitle, has]) => {
        // Both ends stand on whole mebibytes.
        const missing = needs - has + (has < needs ? 2 * MIB : 0)
        return missing > 0 && spare >= missing ? [{ number, title, into, intoTitle, missing, spare }] : []
      })
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
