import { alignUp, MIB } from '../bytes/size'
import { usableRange } from '../scheme/gpt'
import { MBR_SECTORS, MBR_TYPES } from '../scheme/mbr-layout'
import { TYPE_GUIDS } from '../scheme/types'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { movedPartitions } from './ends'
import { explain } from './explain'
import { identityOf } from './identity'
import { ESP_BYTES, limitsOf } from './limits'
import { nearestWish } from './nearest'
import { labelObstacles, newLabel, schemeObstacles, sectorObstacles, sizeObstacles, tooSmall } from './obstacles'
import { layOut, type Part, type Room } from './place'
import type { FitObstacle, FitPartition, FitResult, FitTarget, FitWish, Layout, Scheme } from './types'

/** Start-up code in front of the first partition reaches no farther than this sector. */
const MOST_CODE_SECTORS = 2048

/** The wish a fit starts from: the system volume takes what is left, all else keeps its size. */
export function defaultWish(survey: DriveSurvey): FitWish {
  const moved = movedPartitions(survey)
  const growable = moved.filter((p) => p.volume?.canGrow && p.role !== 'recovery' && p.role !== 'boot')
  const systems = moved.filter((p) => p.role === 'system' && p.volume)
  // Of two systems the one whose volume can take the room, not only its partition.
  const chosen = systems.find((p) => p.volume!.canGrow) ?? systems[0] ?? largest(growable)
  return {
    rules: Object.fromEntries(moved.map((p) => [p.number, p === chosen ? 'fill' : 'keep'] as const)),
    sizes: {},
    reserve: 0,
  }
}

/**
 * Lays the partitions of a source out on a target: every start on the grid, nothing in the table's own sectors, no
 * overlap, order as asked, no volume below its least size. Or says why that cannot be, with the nearest wish that
 * works. The same input gives the same output; what is possible stays possible on a larger target.
 */
export function solveFit(survey: DriveSurvey, target: FitTarget, wish: FitWish = defaultWish(survey)): FitResult {
  const result = attempt(survey, target, wish)
  if (result.fits) return result
  const nearest = nearestWish(survey, wish, result.obstacles, (other) => attempt(survey, target, other).fits)
  return nearest ? { ...result, nearest } : result
}

function attempt(survey: DriveSurvey, target: FitTarget, wish: FitWish): FitResult {
  if ((survey.scheme !== 'gpt' && survey.scheme !== 'mbr') || survey.partitions.length === 0) {
    return fail({
      code: 'no-table',
      sentence: 'The source has no partition table that can be carried over.',
      mend: 'Look at the survey for what is wrong with it.',
    })
  }
  const scheme = wish.scheme ?? survey.scheme
  const left = new Set(wish.leaveOut ?? [])
  const converted = scheme !== survey.scheme
  // An MBR has no use for the partition that systems keep for themselves in a GPT.
  const useless = (p: PartitionSurvey) => converted && scheme === 'mbr' && p.typeGuid === TYPE_GUIDS.reserved
  const moved = inOrder(movedPartitions(survey), wish).filter((p) => !left.has(p.number) && !useless(p))
  if (moved.length === 0) {
    return fail({
      code: 'nothing',
      sentence: 'Every partition is left out, so nothing would be copied.',
      mend: 'Take one along.',
    })
  }
  const obstacles = [
    ...sectorObstacles(survey, target, moved),
    ...schemeObstacles(moved, scheme),
    ...moved.flatMap((p) => [...sizeObstacles(p, wish), ...labelObstacles(p, wish)]),
  ]
  if (obstacles.length > 0) return { fits: false, obstacles }

  const sectorSize = target.logicalSectorSize as 512 | 4096
  const unit = Math.max(1, (wish.alignBytes ?? MIB) / sectorSize)
  const parts = moved.map((p) => partOf(p, wish, survey.logicalSectorSize, sectorSize, unit, scheme))
  const { room, tableEnd, reserved } = roomOn(survey, target, wish, scheme, unit)
  const missing = layOut(parts, room)
  if (missing > 0) {
    const rest = scheme === 'mbr' ? Math.floor(target.sizeBytes / sectorSize) - MBR_SECTORS : 0
    return { fits: false, obstacles: [tooSmall(parts, missing, target, sectorSize, reserved, rest >= missing)] }
  }
  const layout = layoutOf(survey, target, wish, scheme, parts, { first: room.first, end: tableEnd })
  return { fits: true, layout, ...explain(survey, layout, wish) }
}

function partOf(
  source: PartitionSurvey,
  wish: FitWish,
  sourceSector: number,
  sectorSize: number,
  unit: number,
  scheme: Scheme,
): Part {
  const limits = limitsOf(source)
  const asked = wish.rules[source.number] ?? 'keep'
  const wanted = wish.sizes[source.number]
  // What must not change now keeps its size, and what nothing is known of has no use for more.
  const still = limits.notNow !== undefined || !source.volume
  const rule = (asked === 'set' && !wanted) || (still && asked !== 'set') ? 'keep' : asked
  const present = Math.ceil(source.sizeBytes / sectorSize)
  const least = Math.min(present, alignUp(Math.ceil(limits.least / sectorSize), unit))
  const set = Math.ceil(alignUp(wanted ?? 0, unit * sectorSize) / sectorSize)
  const home = (source.firstLba * sourceSector) / sectorSize
  return {
    source,
    limits,
    rule,
    logical: scheme === 'mbr' && source.mbr?.kind === 'logical',
    present,
    least,
    most: limits.most / sectorSize,
    home: home % unit === 0 ? home : undefined,
    sourceStart: Number.isInteger(home) ? home : undefined,
    start: 0,
    record: 0,
    // A size that is asked for and is the present one stays what it is, on the grid or not.
    sectors: rule === 'set' ? (wanted === source.sizeBytes ? present : set) : rule === 'least' ? least : present,
  }
}

function roomOn(
  survey: DriveSurvey,
  target: FitTarget,
  wish: FitWish,
  scheme: Scheme,
  unit: number,
): { room: Room; tableEnd: number; reserved: number } {
  const sectorSize = target.logicalSectorSize
  const total = Math.floor(target.sizeBytes / sectorSize)
  const usable = usableRange(target.sizeBytes, sectorSize)
  const tableEnd = scheme === 'gpt' ? usable.lastLba + 1 : Math.min(total, MBR_SECTORS)
  const asked = alignUp(Math.round(tableEnd * wish.reserve), unit)
  const reserved = lacksEsp(survey, wish, scheme) ? Math.max(asked, alignUp(ESP_BYTES / sectorSize, unit)) : asked
  const lowest = scheme === 'gpt' ? usable.firstLba : 1 + startCodeSectors(survey, scheme)
  const room = {
    first: alignUp(lowest, unit),
    lowest,
    end: tableEnd - reserved,
    unit,
    offGrid: wish.alignBytes === undefined,
    factor: target.sizeBytes / survey.sizeBytes,
  }
  return { room, tableEnd, reserved: reserved * sectorSize }
}

/** A system that started from an MBR has nothing that UEFI starts from; room for it is kept, and Proof makes it. */
function lacksEsp({ scheme: from, partitions }: DriveSurvey, { leaveOut = [] }: FitWish, scheme: Scheme): boolean {
  const comes = partitions.filter((p) => !leaveOut.includes(p.number))
  const has = comes.some((p) => p.mbr?.type === MBR_TYPES.efiSystem)
  return from === 'mbr' && scheme === 'gpt' && !has && comes.some((p) => p.system || p.role === 'system')
}

/** Sectors behind the first that hold start-up code which comes along, so that no partition is put over it. */
function startCodeSectors({ mbr, partitions, logicalSectorSize }: DriveSurvey, scheme: Scheme): number {
  if (scheme !== 'mbr' || !mbr) return 0
  // Where the code could not be read, all the room that it may take is kept.
  const free = Math.min(MOST_CODE_SECTORS, ...partitions.map((p) => p.firstLba)) - 1
  if (!mbr.startCode) return Math.max(0, free)
  // Every four letters stand for three bytes; a sector more or less by their filling is no matter.
  return Math.ceil((mbr.startCode.gap.length * 3) / 4 / logicalSectorSize)
}

/** The order asked for; what it does not name keeps its place among the rest, behind. */
function inOrder(partitions: PartitionSurvey[], { order }: FitWish): PartitionSurvey[] {
  if (!order) return partitions
  const rank = (p: PartitionSurvey) => {
    const at = order.indexOf(p.number)
    return at < 0 ? order.length : at
  }
  return [...partitions].sort((a, b) => rank(a) - rank(b))
}

function layoutOf(
  survey: DriveSurvey,
  target: FitTarget,
  wish: FitWish,
  scheme: Scheme,
  parts: readonly Part[],
  usable: { first: number; end: number },
): Layout {
  const sectorSize = target.logicalSectorSize as 512 | 4096
  const placed = [...parts].sort((a, b) => a.start - b.start)
  const identity = identityOf(
    survey,
    placed.map((p) => p.source),
    scheme,
    wish,
  )
  const partitions = placed.map((part): FitPartition => {
    const { source, limits, rule, start, sectors } = part
    const { number, typeGuid, guid, name, attributes, mbr } = identity.entries.get(source.number)!
    const grown = sectors * sectorSize > source.sizeBytes
    const shrunk = sectors * sectorSize < source.sizeBytes
    const { volume } = source
    // Written out: this is what a fit spends its time on, and spreading costs ten times as much.
    const partition: FitPartition = {
      number,
      sourceNumber: source.number,
      typeGuid,
      guid,
      name,
      attributes,
      title: source.title,
      role: source.role,
      rule,
      sourceFirstLba: source.firstLba,
      sourceLastLba: source.lastLba,
      firstLba: start,
      lastLba: start + sectors - 1,
      usedBytes: volume?.usedBytes ?? source.sizeBytes,
      leastBytes: limits.least,
      resizes: Boolean(volume && !limits.notNow && ((grown && volume.canGrow) || (shrunk && volume.canShrink))),
    }
    if (mbr) partition.mbr = { ...mbr, recordLba: part.logical ? part.record : 0 }
    if (limits.most !== Infinity) partition.mostBytes = limits.most
    const label = newLabel(source, wish)
    if (label !== undefined) partition.label = label
    return partition
  })
  const logical = partitions.filter((p) => p.mbr?.kind === 'logical')
  const extended =
    logical.length === 0
      ? null
      : { number: identity.extendedNumber, firstLba: logical[0].mbr!.recordLba, lastLba: logical.at(-1)!.lastLba }
  const sourceFirst = Math.min(...movedPartitions(survey).map((p) => p.firstLba))
  const targetFirst = extended ? Math.min(extended.firstLba, partitions[0].firstLba) : partitions[0].firstLba
  const keepsStart = scheme === survey.scheme && survey.logicalSectorSize === sectorSize
  const base = {
    scheme,
    diskGuid: identity.diskGuid,
    diskSignature: identity.diskSignature,
    sectorSize,
    sourceSectorSize: survey.logicalSectorSize,
    sourceSizeBytes: survey.sizeBytes,
    targetSizeBytes: target.sizeBytes,
    partitions,
    extended,
    hybrid: identity.hybrid,
    // Start-up code of BIOS systems also lies in the sectors between an MBR and the first partition.
    startArea: {
      bootCode: keepsStart,
      lastLba: keepsStart && scheme === 'mbr' ? Math.min(sourceFirst, targetFirst, MOST_CODE_SECTORS) - 1 : 0,
    },
  }
  const taken = new Set(parts.map((p) => p.source))
  const leftOut = movedPartitions(survey).filter((p) => !taken.has(p))
  const changes = [
    ...leftOut.map((p) => ({ partition: p.number, what: 'left out' as const, sentence: leftOutSentence(p) })),
    ...identity.changes,
    ...partitions.flatMap((p) =>
      p.label === undefined ? [] : [{ partition: p.sourceNumber, what: 'label' as const, sentence: labelSentence(p) }],
    ),
  ]
  return { ...base, gaps: gapsBetween(partitions, usable.first, usable.end, sectorSize), changes }
}

function labelSentence({ title, label }: FitPartition): string {
  return label === '' ? `${title} has no label on the target.` : `${title} is called “${label}” on the target.`
}

function leftOutSentence(p: PartitionSurvey): string {
  const why =
    p.role === 'boot'
      ? ' Without it the system will most likely not start.'
      : p.role === 'recovery'
        ? ' The system starts without it, but cannot repair itself from the drive.'
        : p.role === 'system'
          ? ' It is the system itself.'
          : ''
  return `${p.title} (partition ${p.number}) is left out.${why}`
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
    add(partition.mbr?.recordLba || partition.firstLba)
    next = partition.lastLba + 1
  }
  add(end)
  return gaps
}

function fail(obstacle: FitObstacle): FitResult {
  return { fits: false, obstacles: [obstacle] }
}

function largest(partitions: readonly PartitionSurvey[]): PartitionSurvey | undefined {
  return [...partitions].sort((a, b) => b.sizeBytes - a.sizeBytes)[0]
}
