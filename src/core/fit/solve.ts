import { alignDown, alignUp, formatSize, MIB } from '../bytes/size'
import { usableRange } from '../scheme/gpt'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { FitPartition, FitResult, FitWish, Layout, SizeRule } from './types'

/** What the solver needs to know of a target. */
export interface FitTarget {
  readonly sizeBytes: number
  readonly logicalSectorSize: number
}

/** The wish a fit starts from: the system volume takes what is left, all else keeps its size. */
export function defaultWish(survey: DriveSurvey): FitWish {
  const growable = survey.partitions.filter((p) => p.volume?.canGrow && p.role !== 'recovery')
  const chosen = growable.find((p) => p.role === 'system') ?? largest(growable)
  return {
    rules: Object.fromEntries(survey.partitions.map((p) => [p.number, p === chosen ? 'fill' : 'keep'] as const)),
    sizes: {},
    reserve: 0,
  }
}

/**
 * Lays the partitions of a source out on a target: order, numbers, GUIDs, types, names and attributes kept,
 * every start on 1 MiB, nothing in the table's own sectors, no overlap. Partitions behind the last one that
 * grows go to the end, so that the growth is one piece. The same input gives the same output.
 */
export function solveFit(survey: DriveSurvey, target: FitTarget, wish: FitWish = defaultWish(survey)): FitResult {
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
  const tableEnd = usable.lastLba + 1
  const reserved = alignUp(Math.round(tableEnd * wish.reserve), unit)
  const end = tableEnd - reserved
  const parts = [...survey.partitions]
    .sort((a, b) => a.firstLba - b.firstLba)
    .map((source) => ({ source, ...wished(source, wish, sectorSize) }))
  const below = parts.find((p) => p.sectors < sectorsOf(p.source))
  if (below) return belowLeast(below.source, below.sectors * sectorSize)

  // The least room all take, and what is then left to grow into.
  const lastGrowing = parts.findLastIndex((p) => p.rule !== 'keep')
  const head = lastGrowing >= 0 ? parts.slice(0, lastGrowing + 1) : parts
  let tail = end
  for (const part of parts.slice(head.length).reverse()) part.start = tail = alignDown(tail - part.sectors, unit)
  const limit = lastGrowing >= 0 ? alignDown(tail, unit) : end
  const needed = place(head, first, unit)
  if (needed > limit)
    return tooSmall(survey.partitions, (needed - limit) * sectorSize, target.sizeBytes, reserved * sectorSize)
  grow(head, limit - alignUp(needed, unit), unit, target.sizeBytes / survey.sizeBytes)
  place(head, first, unit)

  const layout: Layout = {
    diskGuid: survey.table.diskGuid,
    sectorSize,
    sourceSizeBytes: survey.sizeBytes,
    targetSizeBytes: target.sizeBytes,
    partitions: parts.map(toFitPartition),
    gaps: [],
  }
  layout.gaps = gapsBetween(layout.partitions, first, tableEnd, sectorSize)
  return { fits: true, layout, ...explain(layout) }
}

interface Part {
  readonly source: PartitionSurvey
  readonly rule: SizeRule
  start: number
  sectors: number
}

/** A partition with its rule and the sectors it asks for before anything is left to be shared. */
function wished(source: PartitionSurvey, wish: FitWish, sectorSize: number): Omit<Part, 'source'> {
  const asked = wish.rules[source.number] ?? 'keep'
  const rule = source.volume?.canGrow ? asked : 'keep'
  const wanted = wish.sizes[source.number]
  const sectors = rule === 'set' && wanted ? Math.ceil(alignUp(wanted, MIB) / sectorSize) : sectorsOf(source)
  return { rule: rule === 'set' && !wanted ? 'keep' : rule, start: 0, sectors }
}

/** Puts parts one behind the other from `first` and returns the sector behind the last. */
function place(parts: readonly Part[], first: number, unit: number): number {
  let cursor = first
  let moved = false
  for (const part of parts) {
    const { firstLba } = part.source
    // A place the source already has is kept, as long as nothing in front of it grows.
    if (!moved && part.rule === 'keep' && firstLba > cursor && firstLba % unit === 0) cursor = firstLba
    part.start = cursor
    moved ||= part.rule !== 'keep'
    cursor += part.sectors
    if (part !== parts.at(-1)) cursor = alignUp(cursor, unit)
  }
  return cursor
}

/** Gives out `room` sectors: first to those that share, as the drive has grown, then to those that fill. */
function grow(parts: readonly Part[], room: number, unit: number, factor: number): void {
  let left = Math.max(0, room)
  const sharing = parts.filter((p) => p.rule === 'share')
  const wanted = sharing.map((p) => Math.max(0, alignDown(p.sectors * (factor - 1), unit)))
  const sum = wanted.reduce((a, b) => a + b, 0)
  sharing.forEach((part, i) => {
    const extra = sum > room ? alignDown((wanted[i] / sum) * room, unit) : wanted[i]
    part.sectors = alignUp(part.sectors, unit) + extra
    left -= extra
  })
  const filling = parts.filter((p) => p.rule === 'fill')
  const each = alignDown(left / Math.max(1, filling.length), unit)
  filling.forEach((part, i) => {
    // A filling partition ends on the grid, whatever its old length was.
    part.sectors = alignUp(part.sectors, unit) + (i === filling.length - 1 ? left - each * i : each)
  })
}

function toFitPartition({ source, rule, start, sectors }: Part): FitPartition {
  const { number, typeGuid, guid, name, attributes, title, role, volume, sizeBytes } = source
  return {
    number,
    typeGuid,
    guid,
    name,
    attributes,
    title,
    role,
    rule,
    sourceFirstLba: source.firstLba,
    sourceLastLba: source.lastLba,
    firstLba: start,
    lastLba: start + sectors - 1,
    usedBytes: volume?.usedBytes ?? sizeBytes,
    smallestBytes: volume?.smallestBytes ?? sizeBytes,
  }
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

function tooSmall(
  partitions: readonly PartitionSurvey[],
  missingBytes: number,
  targetBytes: number,
  reservedBytes: number,
): FitResult {
  const shed = [...partitions].sort((a, b) => slack(b) - slack(a))[0]
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
        sentence: `It does not fit: the target of ${formatSize(targetBytes)} is ${formatSize(missingBytes)} too small for what is asked.${could}`,
        mend:
          reservedBytes > 0
            ? 'Reserve less, ask for smaller sizes, or take a larger target.'
            : 'Ask for smaller sizes, or take a larger target.',
      },
    ],
  }
}

function belowLeast(partition: PartitionSurvey, askedBytes: number): FitResult {
  return {
    fits: false,
    obstacles: [
      {
        code: 'below-least',
        missingBytes: partition.sizeBytes - askedBytes,
        sentence: `${partition.title} is ${formatSize(partition.sizeBytes)} now and cannot be made smaller yet; ${formatSize(askedBytes)} was asked for.`,
        mend: `Ask for ${formatSize(partition.sizeBytes)} or more.`,
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
