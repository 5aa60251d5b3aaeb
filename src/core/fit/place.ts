import { alignDown, alignUp } from '../bytes/size'
import type { PartitionSurvey } from '../survey/types'
import type { Limits } from './limits'
import type { SizeRule } from './types'

/** A partition while it is laid out. Sectors are of the target. */
export interface Part {
  readonly source: PartitionSurvey
  readonly limits: Limits
  readonly rule: SizeRule
  /** In an MBR a logical partition has its record in front of it. */
  readonly logical: boolean
  /** Its size now, the least, and the most its volume can fill. */
  readonly present: number
  readonly least: number
  readonly most: number
  /** Its place on the source as sectors of the target, where that is on the grid. */
  readonly home: number | undefined
  /** The same, on the grid or not; undefined where it is no whole sector of the target. */
  readonly sourceStart: number | undefined
  start: number
  /** Sector of a logical partition's record. */
  record: number
  sectors: number
}

/** The room that parts are laid out in: sectors from `first` up to `end`, which is outside. */
export interface Room {
  readonly first: number
  readonly end: number
  /** The first sector that the table leaves free, on the grid or not. */
  readonly lowest: number
  /** Every start is a multiple of it. */
  readonly unit: number
  /** Nobody asked for that grid, so that what stands off it may stay there. */
  readonly offGrid: boolean
  /** Target by source size, by which parts that share grow. */
  readonly factor: number
}

/**
 * Gives every part its start and length. Parts behind the last one that takes what is left go to the end, so that
 * the growth is one piece. Returns 0, or the sectors that are missing when even the least does not go in.
 */
export function layOut(parts: readonly Part[], room: Room): number {
  const present = tryWith(parts, room, (part) => part.present)
  if (present === 0) return 0
  // A full drive onto one of its size: what stands off the grid has no room to be moved onto it, and can stay.
  if (keepPlaces(parts, room)) return 0
  // What takes what is left may also become smaller than it is.
  return tryWith(parts, room, (part) => part.least)
}

/** Puts every part where it is on the source, with its size. False when that is not what is asked, or does not go. */
function keepPlaces(parts: readonly Part[], { lowest, end, offGrid }: Room): boolean {
  if (!offGrid && parts.some((p) => p.home === undefined)) return false
  let next = lowest
  for (const { rule, logical, sourceStart, present, source } of parts) {
    const from = logical ? source.mbr!.recordLba : sourceStart
    if (rule === 'set' || rule === 'least' || sourceStart === undefined || from === undefined || from < next)
      return false
    next = sourceStart + present
  }
  if (next > end) return false
  for (const part of parts) {
    part.start = part.sourceStart!
    part.sectors = part.present
    part.record = part.source.mbr?.recordLba ?? 0
  }
  return true
}

function tryWith(parts: readonly Part[], room: Room, baseOf: (part: Part) => number): number {
  const { first, end, unit } = room
  const isGrowing = (part: Part) => part.rule === 'fill' || part.rule === 'share'
  for (const part of parts) if (isGrowing(part)) part.sectors = baseOf(part)
  const lastGrowing = parts.findLastIndex((p) => p.rule !== 'keep')
  const head = lastGrowing >= 0 ? parts.slice(0, lastGrowing + 1) : parts
  let tail = end
  for (const part of parts.slice(head.length).reverse()) {
    part.start = alignDown(tail - part.sectors, unit)
    part.record = part.start - unit
    tail = part.start - (part.logical ? unit : 0)
  }
  const limit = lastGrowing >= 0 ? alignDown(tail, unit) : end
  // A place that the source already has is kept where there is room for it.
  let settled = beforeFirstChange(parts)
  let needed = putInOrder(head, first, unit, settled)
  if (needed > limit) needed = putInOrder(head, first, unit, (settled = 0))
  if (needed > limit) return needed - limit
  grow(head, limit - alignUp(needed, unit), room)
  putInOrder(head, first, unit, settled)
  return 0
}

/** How many parts come before the first that changes its size, or its place among the others. */
function beforeFirstChange(parts: readonly Part[]): number {
  let before = parts.length
  let earliest = Infinity
  for (let i = parts.length - 1; i >= 0; i--) {
    const { rule, source } = parts[i]
    if (rule !== 'keep' || source.firstLba > earliest) before = i
    earliest = Math.min(earliest, source.firstLba)
  }
  return before
}

/**
 * Puts parts one behind the other and returns the sector behind the last. The first `settled` of them keep the places
 * that they have on the source where there is room for it.
 */
function putInOrder(parts: readonly Part[], first: number, unit: number, settled: number): number {
  let cursor = first
  for (const [i, part] of parts.entries()) {
    cursor = alignUp(cursor, unit) + (part.logical ? unit : 0)
    if (i < settled && part.home !== undefined && part.home > cursor) cursor = part.home
    part.start = cursor
    part.record = cursor - unit
    cursor += part.sectors
  }
  return cursor
}

/** Gives out `room` sectors: first to those that share, as the drive has grown, then to those that fill. */
function grow(parts: readonly Part[], available: number, { unit, factor }: Room): void {
  let left = Math.max(0, available)
  const give = (part: Part, extra: number) => {
    if (extra <= 0) return
    part.sectors = alignUp(part.sectors, unit) + extra
    left -= extra
  }
  /** Sectors that a part can still take, in whole units. */
  const roomOf = (part: Part) => Math.max(0, alignDown(part.most - alignUp(part.sectors, unit), unit))
  const sharing = parts.filter((p) => p.rule === 'share')
  const wanted = sharing.map((p) =>
    Math.min(roomOf(p), Math.max(0, alignDown(p.present * factor - alignUp(p.sectors, unit), unit))),
  )
  const sum = wanted.reduce((a, b) => a + b, 0)
  const total = left
  sharing.forEach((part, i) => give(part, sum > total ? alignDown((wanted[i] / sum) * total, unit) : wanted[i]))
  let filling = parts.filter((p) => p.rule === 'fill')
  while (filling.length > 0 && left >= unit) {
    const each = Math.max(unit, alignDown(left / filling.length, unit))
    for (const part of filling) give(part, Math.min(each, left, roomOf(part)))
    filling = filling.filter((part) => roomOf(part) >= unit)
  }
}
