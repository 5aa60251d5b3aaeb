import { alignUp, formatSize, GIB, MIB, TIB } from '../bytes/size'
import { MBR_SECTORS } from '../scheme/mbr-layout'
import { TYPE_GUIDS } from '../scheme/types'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { labelProblem } from '../filesystem/label-rule'
import { limitsOf } from './limits'
import type { Part } from './place'
import type { FitObstacle, FitTarget, FitWish, Scheme } from './types'

// Why no layout is possible, each with the partition, the bytes that are missing, and what would mend it.

const MOST_IN_GPT = 128

/** Sectors of another size change every sector number: only what does not count in them can come along. */
export function sectorObstacles(
  survey: DriveSurvey,
  target: FitTarget,
  moved: readonly PartitionSurvey[],
): FitObstacle[] {
  const [from, to] = [survey.logicalSectorSize, target.logicalSectorSize]
  if (from === to) return []
  return moved
    .filter((p) => !p.volume?.anySectors && p.typeGuid !== TYPE_GUIDS.reserved)
    .map((p) => ({
      code: 'sector-size' as const,
      partition: p.number,
      sentence: `The target has sectors of ${to} bytes and the source of ${from}: ${p.title} holds ${p.volume ? `a volume with ${p.volume.name}` : 'something'} that counts in sectors of ${from} and cannot be read with others.`,
      mend: `Take a target with ${from}-byte sectors.`,
    }))
}

/** The label that a volume is to get, where it is another than it has. */
export function newLabel({ number, volume }: PartitionSurvey, { labels }: FitWish): string | undefined {
  const label = labels?.[number]?.trim()
  return label === undefined || label === volume?.label ? undefined : label
}

/** A label that cannot be written, by its volume or by the rules of its kind. */
export function labelObstacles(partition: PartitionSurvey, wish: FitWish): FitObstacle[] {
  const label = newLabel(partition, wish)
  if (label === undefined) return []
  const { number, title, volume } = partition
  const unclean =
    volume && volume.state !== 'clean' ? `${title} was not closed cleanly, so nothing is written to it.` : undefined
  const sentence = unclean ?? labelProblem(volume && !volume.encrypted ? volume.kind : '', label)
  if (sentence === undefined) return []
  return [{ code: 'label', partition: number, sentence, mend: 'Give it another label, or leave it the one it has.' }]
}

export function schemeObstacles(moved: readonly PartitionSurvey[], scheme: Scheme): FitObstacle[] {
  if (scheme === 'gpt') {
    if (moved.length <= MOST_IN_GPT) return []
    return [
      {
        code: 'too-many',
        sentence: `A GPT has room for ${MOST_IN_GPT} partitions, and these are ${moved.length}.`,
        mend: 'Leave some of them out.',
      },
    ]
  }
  const logical = moved.filter((p) => p.mbr?.kind === 'logical')
  const primary = moved.length - logical.length
  const most = logical.length > 0 ? 3 : 4
  if (primary > most) {
    return [
      {
        code: 'too-many',
        sentence:
          logical.length > 0
            ? `Beside logical partitions an MBR has room for three, and these are ${primary}.`
            : `An MBR has room for four partitions, and these are ${primary}.`,
        mend: 'Keep the GPT, or leave some of them out.',
      },
    ]
  }
  const first = moved.findIndex((p) => p.mbr?.kind === 'logical')
  const last = moved.findLastIndex((p) => p.mbr?.kind === 'logical')
  const between = first < 0 ? undefined : moved.slice(first, last).find((p) => p.mbr?.kind !== 'logical')
  if (!between) return []
  return [
    {
      code: 'order',
      partition: between.number,
      sentence: `${between.title} stands between logical partitions, which have to lie together in one container.`,
      mend: 'Put it in front of all of them, or behind.',
    },
  ]
}

export function sizeObstacles(partition: PartitionSurvey, wish: FitWish): FitObstacle[] {
  const { number, title, sizeBytes } = partition
  const asked = wish.rules[number] === 'set' ? wish.sizes[number] : undefined
  if (asked === undefined || asked === sizeBytes) return []
  const limits = limitsOf(partition)
  if (limits.notNow) {
    return [
      {
        code: 'not-clean',
        partition: number,
        sentence: limits.notNow,
        mend: 'Start it, have it check its drives, shut it down, and read the drives again; or keep its size.',
      },
    ]
  }
  if (asked < limits.least) {
    const missingBytes = limits.least - asked
    return [
      {
        code: 'below-least',
        partition: number,
        missingBytes,
        sentence: `${title} needs at least ${formatSize(limits.least)}, and ${formatSize(asked)} was asked for: ${formatSize(missingBytes)} are missing.`,
        mend: `Ask for ${formatSize(limits.least)} or more; it cannot be smaller, because ${limits.whyLeast}.`,
      },
    ]
  }
  if (asked > limits.most) {
    return [
      {
        code: 'above-most',
        partition: number,
        sentence: `${title} holds ${partition.volume!.name}, which with its clusters can be at most ${formatSize(limits.most)}.`,
        mend: `Ask for ${formatSize(limits.most)} or less.`,
      },
    ]
  }
  return []
}

export function tooSmall(
  parts: readonly Part[],
  missing: number,
  target: FitTarget,
  sectorSize: number,
  reservedBytes: number,
  byTable: boolean,
): FitObstacle {
  const missingBytes = missing * sectorSize
  if (byTable) {
    return {
      code: 'beyond-2tib',
      missingBytes,
      sentence: `An MBR reaches ${formatSize(MBR_SECTORS * sectorSize)} far, and what is asked for needs ${formatSize(missingBytes)} more.`,
      mend: 'Make the table a GPT, or ask for smaller sizes.',
    }
  }
  const slack = (part: Part) => part.sectors * sectorSize - part.limits.least
  const shed = [...parts].sort((a, b) => slack(b) - slack(a))[0]
  const could =
    slack(shed) >= sectorSize && shed.rule !== 'fill' && shed.rule !== 'share'
      ? ` ${shed.source.title} could shed ${formatSize(slack(shed))}.`
      : ''
  return {
    code: 'too-small',
    missingBytes,
    ...(could ? { partition: shed.source.number } : {}),
    sentence: `It does not fit: the target of ${formatSize(target.sizeBytes)} is ${formatSize(missingBytes)} too small for what is asked.${could}`,
    mend: `${reservedBytes > 0 ? 'Reserve less, ask' : 'Ask'} for smaller sizes, or take a target of ${roundUp(target.sizeBytes + missingBytes)} or more.`,
  }
}

function roundUp(bytes: number): string {
  // Sizes are shown with one decimal, which must not fall below what is needed.
  const unit = bytes >= TIB ? TIB / 10 : bytes >= GIB ? GIB / 10 : MIB
  return formatSize(alignUp(bytes, unit))
}
