import { alignDown, alignUp, formatSize, MIB } from '../bytes/size'
import { usableRange } from '../scheme/gpt'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { FitPartition, FitResult, Layout, Rules, SizeRule } from './types'

/** What the solver needs to know of a target. */
export interface FitTarget {
  readonly sizeBytes: number
  readonly logicalSectorSize: number
}

/** The rules a fit starts from: the system volume takes what is left, all else keeps its size. */
export function defaultRules(survey: DriveSurvey): Rules {
  const growable = survey.partitions.filter((p) => p.volume?.canGrow && p.role !== 'recovery')
  const chosen = growable.find((p) => p.role === 'system') ?? largest(growable)
  return Object.fromEntries(survey.partitions.map((p) => [p.number, p === chosen ? 'fill' : 'keep'] as const))
}

/**
 * Lays the partitions of a source out on a target: order, numbers, GUIDs, types, names and attributes kept,
 * every start on 1 MiB, nothing in the table's own sectors, no overlap. Partitions behind the last filling
 * one go to the end, so that the growth is one piece. The same input gives the same output.
 */
export function solveFit(survey: DriveSurvey, target: FitTarget, rules: Rules = defaultRules(survey)): FitResult {
  if (survey.scheme !== 'gpt' || !survey.table || survey.partitions.length === 0) {
    return refuse(
      'no-table',
      'The source has no partition table that can be carried over.',
      'Look at the survey for what is wrong with it.',
    )
  }
  if (target.logicalSectorSize !== survey.logicalSectorSize) {
    return refuse(
      'sector-size',
      `The source has sectors of ${survey.logicalSectorSize} bytes and the target of ${target.logicalSectorSize}, so every sector number would change.`,
      `Take a target with ${survey.logicalSectorSize}-byte sectors.`,
    )
  }
  const sectorSize = survey.logicalSectorSize
  const unit = MIB / sectorSize
  const usable = usableRange(target.sizeBytes, sectorSize)
  const first = alignUp(usable.firstLba, unit)
  const end = usable.lastLba + 1
  const ordered = [...survey.partitions].sort((a, b) => a.firstLba - b.firstLba)
  const ruleOf = (p: PartitionSurvey): SizeRule => (rules[p.number] === 'fill' && p.volume?.canGrow ? 'fill' : 'keep')
  const lastFill = ordered.findLastIndex((p) => ruleOf(p) === 'fill')

  // From the end backwards: what stands behind the last filling partition.
  const starts = new Map<number, number>()
  let tail = end
  for (let i = ordered.length - 1; i > lastFill && lastFill >= 0; i--) {
    tail = alignDown(tail - sectorsOf(ordered[i]), unit)
    starts.set(ordered[i].number, tail)
  }
  // From the front: the least room each partition takes, and what is then left to fill.
  const head = lastFill >= 0 ? ordered.slice(0, lastFill + 1) : ordered
  let cursor = first
  let room = 0
  const sizes = new Map<number, number>()
  for (const partition of head) {
    if (ruleOf(partition) === 'keep') {
      const filled = head.slice(0, head.indexOf(partition)).some((p) => ruleOf(p) === 'fill')
      // A place the source already has is kept, as long as nothing in front of it grows.
      if (!filled && partition.firstLba > cursor && partition.firstLba % unit === 0) cursor = partition.firstLba
    }
    starts.set(partition.number, cursor)
    sizes.set(partition.number, sectorsOf(partition))
    cursor = alignUp(cursor + sectorsOf(partition), unit)
  }
  const limit = lastFill >= 0 ? tail : end
  const lastOfHead = head.at(-1)!
  const needed = starts.get(lastOfHead.number)! + sectorsOf(lastOfHead)
  if (needed > limit) return tooSmall(ordered, (needed - limit) * sectorSize, target.sizeBytes)
  const fillers = head.filter((p) => ruleOf(p) === 'fill')
  room = alignDown(limit, unit) - cursor
  if (fillers.length > 0 && room > 0) {
    const share = alignDown(Math.floor(room / fillers.length), unit)
    let shift = 0
    for (const partition of head) {
      starts.set(partition.number, starts.get(partition.number)! + shift)
      if (ruleOf(partition) !== 'fill') continue
      const extra = partition === fillers.at(-1) ? room - share * (fillers.length - 1) : share
      // A filling partition ends on the grid, whatever its old length was.
      sizes.set(partition.number, alignUp(sectorsOf(partition), unit) + extra)
      shift += extra
    }
  }
  const partitions = ordered.map((p): FitPartition => {
    const firstLba = starts.get(p.number)!
    const lastLba = firstLba + (sizes.get(p.number) ?? sectorsOf(p)) - 1
    const { number, typeGuid, guid, name, attributes, title, role } = p
    return {
      number,
      typeGuid,
      guid,
      name,
      attributes,
      title,
      role,
      rule: ruleOf(p),
      sourceFirstLba: p.firstLba,
      sourceLastLba: p.lastLba,
      firstLba,
      lastLba,
      usedBytes: p.volume?.usedBytes ?? p.sizeBytes,
      smallestBytes: p.volume?.smallestBytes ?? p.sizeBytes,
    }
  })
  const layout: Layout = {
    diskGuid: survey.table.diskGuid,
    sectorSize,
    sourceSizeBytes: survey.sizeBytes,
    targetSizeBytes: target.sizeBytes,
    partitions,
    gaps: gapsBetween(partitions, first, end, sectorSize),
  }
  return { fits: true, layout, ...explain(layout) }
}

/** Length of a layout's partition in bytes, on the target and on the source. */
export function fitSizes(partition: FitPartition, sectorSize: number): { after: number; before: number } {
  return {
    after: (partition.lastLba - partition.firstLba + 1) * sectorSize,
    before: (partition.sourceLastLba - partition.sourceFirstLba + 1) * sectorSize,
  }
}

function explain(layout: Layout): { headline: string; reason: string } {
  const { sectorSize, partitions } = layout
  const grown = partitions.filter((p) => fitSizes(p, sectorSize).after > fitSizes(p, sectorSize).before)
  const growth = grown.reduce((sum, p) => sum + fitSizes(p, sectorSize).after - fitSizes(p, sectorSize).before, 0)
  const unallocated = layout.gaps.reduce((sum, gap) => sum + gap.sizeBytes, 0)
  const spare = growth + unallocated
  const headline = spare >= MIB ? `It fits, with ${roundGib(spare)} to spare` : 'It fits exactly'
  const sentences = grown.map((p) => {
    const { before, after } = fitSizes(p, sectorSize)
    return `${p.title} grows from ${formatSize(before)} to ${formatSize(after)}.`
  })
  const last = grown.at(-1)
  const moved = partitions.filter((p) => last && p.firstLba > last.firstLba && p.firstLba !== p.sourceFirstLba)
  if (moved.length > 0) {
    const names = moved.map((p) => p.title).join(' and ')
    sentences.push(`${names} ${moved.length === 1 ? 'moves' : 'move'} to the end so the growth is one piece.`)
  }
  if (unallocated > 0) sentences.push(`${formatSize(unallocated)} stays unallocated.`)
  if (sentences.length === 0) sentences.push('Every partition keeps its size and its place.')
  return { headline, reason: sentences.join(' ') }
}

function roundGib(bytes: number): string {
  const gib = bytes / (1024 * MIB)
  return gib >= 10 ? `${Math.floor(gib)} GiB` : formatSize(bytes)
}

function tooSmall(ordered: readonly PartitionSurvey[], missingBytes: number, targetBytes: number): FitResult {
  const shed = [...ordered].sort((a, b) => slack(b) - slack(a))[0]
  const could =
    shed && slack(shed) > 0
      ? ` ${shed.title} has ${formatSize(slack(shed))} behind its last file, which it could shed.`
      : ''
  return {
    fits: false,
    obstacles: [
      {
        code: 'too-small',
        missingBytes,
        sentence: `It does not fit: the target of ${formatSize(targetBytes)} is ${formatSize(missingBytes)} too small for the partitions as they are.${could}`,
        mend: 'Take a larger target.',
      },
    ],
  }
}

function slack(partition: PartitionSurvey): number {
  return partition.volume ? Math.max(0, partition.sizeBytes - partition.volume.smallestBytes) : 0
}

function gapsBetween(
  partitions: readonly FitPartition[],
  first: number,
  end: number,
  sectorSize: number,
): Layout['gaps'] {
  const gaps: Layout['gaps'] = []
  let next = first
  const add = (until: number) => {
    const sizeBytes = (until - next) * sectorSize
    if (sizeBytes >= MIB) gaps.push({ firstLba: next, lastLba: until - 1, sizeBytes })
  }
  for (const partition of partitions) {
    add(partition.firstLba)
    next = partition.lastLba + 1
  }
  add(end)
  return gaps
}

function refuse(code: 'no-table' | 'sector-size', sentence: string, mend: string): FitResult {
  return { fits: false, obstacles: [{ code, sentence, mend }] }
}

function sectorsOf(partition: PartitionSurvey): number {
  return partition.lastLba - partition.firstLba + 1
}

function largest(partitions: readonly PartitionSurvey[]): PartitionSurvey | undefined {
  return [...partitions].sort((a, b) => b.sizeBytes - a.sizeBytes)[0]
}
