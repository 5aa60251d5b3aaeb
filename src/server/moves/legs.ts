import type { CopyView } from '@/core/copy/view'
import { layoutFrom, layoutInImage, layoutOnTheWay } from '@/core/fit/onward'
import type { Layout } from '@/core/fit/types'
import { type Hands, leftOutside, type Leg, legsOf, type Plan, type Transfer } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import { swapSteps } from '@/core/swap/steps'
import type { DoneStep, SwapStep, Ticks } from '@/core/swap/types'
import type { Drive } from '@/core/things/drive'
import type { MoveRow } from '../database/models'
import { Refusal } from '../ground/refusals'
import { type Move, obstacleOf, retiresSources } from '.'
import { latestCopy } from './copies'
import { imageMedium, type Medium, storeOf } from './media'

/** Where a move is in its plan. */
export interface Progress {
  readonly plan: Plan
  readonly legs: readonly Leg[]
  /** What hands do before each leg, and last what they do after all of them. */
  readonly hands: readonly (readonly Hands[])[]
  /** The newest copy of each leg. */
  readonly copies: readonly (CopyView | undefined)[]
  /** How many legs are copied. */
  readonly copied: number
  /** The leg that Ready and Copy are about: the first that is not copied, or the last. */
  readonly leg: number
  /** The phase of the hands that is not done, if it comes before the next copy or after the last. */
  readonly phase: number | undefined
}

/** One leg with the media it is between and what it writes. */
export interface LegNow {
  readonly index: number
  readonly of: number
  readonly transfer: Transfer
  readonly from: Medium
  readonly to: Medium
  /** What was read of both when the way was taken; of a drive that a leg before wrote, as it was then. */
  readonly source: DriveSurvey
  /** Undefined of an image, which is made anew. */
  readonly target?: DriveSurvey
  readonly layout: Layout
  /** The locked fit, where the leg reads the move's own drive. */
  readonly sampledBy?: Layout
  /** The leg writes the move's target, and not a medium on the way. */
  readonly last: boolean
  /** The volumes of the source that an image holds, where not all. */
  readonly volumes: number[] | null
}

export async function progressOf(row: Pick<MoveRow, 'id' | 'brief' | 'route' | 'swap'>): Promise<Progress | undefined> {
  if (!row.route) return undefined
  const { plan } = row.route
  const { legs, after } = legsOf(plan)
  const hands = [...legs.map((l) => l.before), after]
  const staying = stayingOf(row)
  const copies: (CopyView | undefined)[] = []
  for (const i of legs.keys()) copies.push(await latestCopy(row.id, i))
  const notCopied = copies.findIndex((c) => c?.status !== 'done')
  const copied = notCopied < 0 ? legs.length : notCopied
  // Before the first tick of a phase nothing is stored of it; then it is done only when it asks nothing.
  const isDone = (phase: number) => {
    const stored = row.swap?.phases[phase]
    const begun = stored !== undefined && stored.steps.length > 0
    if (begun) return stored.done.length >= beforeStart(stored.steps)
    return asksNothing(hands[phase]) && asideIn(phase, plan, legs, staying).length === 0
  }
  return {
    plan,
    legs,
    hands,
    copies,
    copied,
    leg: Math.min(copied, legs.length - 1),
    phase: isDone(copied) ? undefined : copied,
  }
}

/** How many steps of a phase come before what follows it; the others wait for a start that passed. */
export const beforeStart = (steps: readonly SwapStep[]) => steps.filter((s) => !s.afterStart).length

/** The drives of a move that stay where they are at its end: its targets, and sources that go on being used. */
const stayingOf = ({ brief }: Pick<MoveRow, 'brief'>) =>
  brief.pairs.flatMap(({ sourceId, targetId }) => [
    ...(targetId === null ? [] : [targetId]),
    ...(retiresSources({ brief }) ? [] : [sourceId]),
  ])

/** Drives that hands set aside in a phase: in the last, before the start from the new drive. */
const asideIn = (phase: number, plan: Plan, legs: readonly Leg[], staying: readonly string[]) =>
  phase === legs.length ? leftOutside(plan, staying) : []

const asksNothing = (hands: readonly Hands[]) =>
  !hands.some((h) => h.do === 'take' || h.do === 'put' || h.do === 'secure-boot')

/** The steps of a phase: those already begun with, or computed for the bench as it is now. */
export function stepsOf(
  move: Move,
  progress: Progress,
  phase: number,
): { steps: SwapStep[]; done: DoneStep[]; ticks: Ticks } {
  const stored = move.row.swap?.phases[phase]
  if (stored && stored.steps.length > 0) return stored
  const steps = swapSteps({
    bench: move.bench,
    computerId: move.goal && !move.goal.virtual ? move.goal.id : move.computer.id,
    hands: progress.hands[phase],
    later: progress.hands.slice(phase + 1).flat(),
    sourceIds: move.pairs.map((p) => p.source.id),
    aside: asideIn(phase, progress.plan, progress.legs, stayingOf(move)),
  })
  return { steps, done: [], ticks: {} }
}

/** The leg that is next to be copied, or the one of that number. Throws Refusal when this version cannot carry it out. */
export async function loadLeg(move: Move, index?: number): Promise<LegNow> {
  const { row } = move
  if (!row.survey || !row.route) throw new Refusal('no-route')
  const obstacle = obstacleOf(move)
  if (obstacle) throw new Refusal('move-blocked', { why: obstacle })
  const progress = (await progressOf(row))!
  const at = index ?? progress.leg
  const { transfer } = progress.legs[at]
  const pair = row.survey.pairs[transfer.pair]
  const locked = row.fit?.pairs[transfer.pair]
  if (!locked) throw new Refusal('no-locked-fit')
  const from = mediumRead(move, progress.legs, at)
  const to = mediumWritten(move, transfer, at)
  const last = isLast(move, transfer)
  const carried = carriedBy(move, from, transfer.pair)
  const layout = last
    ? locked.layout
    : to.kind === 'image'
      ? inImage(pair.source, move.pairs[transfer.pair].volume)
      : onTheWay(pair.source, row.route.via[to.drive.id])
  const target = last ? (pair.target ?? undefined) : to.kind === 'drive' ? row.route.via[to.drive.id] : undefined
  return {
    index: at,
    of: progress.legs.length,
    transfer,
    from,
    to,
    source: pair.source,
    ...(target ? { target } : {}),
    layout: carried ? layoutFrom(carried, layout) : layout,
    ...(carried ? {} : { sampledBy: locked.layout }),
    last,
    volumes: move.pairs[transfer.pair].volume === undefined ? null : [move.pairs[transfer.pair].volume!],
  }
}

/**
 * The legs that are copied together with this one: of a computer that runs, all drives are copied as they were at one
 * moment, since a database may lie on one and its log on another.
 */
export async function togetherWith(move: Move, leg: LegNow): Promise<LegNow[]> {
  if (!leg.transfer.live) return []
  const { legs } = (await progressOf(move.row))!
  const found: LegNow[] = []
  for (const [i, { before, transfer }] of legs.entries()) {
    if (i <= leg.index) continue
    if (!transfer.live || transfer.by !== leg.transfer.by || before.length > 0) break
    found.push(await loadLeg(move, i))
  }
  return found
}

const isLast = (move: Move, { to, pair }: Transfer) =>
  to.kind === 'virtual-disk' || (to.kind === 'drive' && to.driveId === move.pairs[pair].target?.id)

/** What a leg writes. Throws Refusal where it is gone. */
export function mediumWritten(move: Move, { to, pair }: Transfer, leg: number): Medium {
  if (to.kind === 'drive') return { kind: 'drive', drive: driveOnBench(move, to.driveId) }
  const image = move.row.route!.images.find((i) => i.leg === leg && i.end === 'to')
  if (!image) throw new Refusal('leg-image-unknown')
  const ofMachine = to.kind === 'virtual-disk'
  const fit = ofMachine ? move.row.fit?.pairs[pair]?.layout : undefined
  const layout = fit ?? inImage(move.row.survey!.pairs[pair].source, move.pairs[pair].volume)
  const disk = { sizeBytes: layout.targetSizeBytes, sectorSize: layout.sectorSize, ofMachine }
  return imageMedium(image, disk, storeOf(to, image.volume, move.bench))
}

/** What a leg reads: a drive, the image that a leg before it wrote, or one that the move began with. */
export function mediumRead(move: Move, legs: readonly Leg[], leg: number): Medium {
  const { transfer } = legs[leg]
  const { from, pair } = transfer
  if (from.kind === 'drive') return { kind: 'drive', drive: driveOnBench(move, from.driveId) }
  const before = legs.slice(0, leg).findLastIndex(({ transfer: t }) => t.pair === pair && t.to.kind === 'image')
  if (before >= 0) return mediumWritten(move, legs[before].transfer, before)
  const given = move.row.route!.images.find((i) => i.leg === leg && i.end === 'from')
  if (!given) throw new Refusal('leg-image-unknown')
  const { sizeBytes, logicalSectorSize: sectorSize } = move.row.survey!.pairs[pair].source
  return imageMedium(given, { sizeBytes, sectorSize, ofMachine: false }, storeOf(from, given.volume, move.bench))
}

/** How what is read is laid out, where that is not the move's own drive. */
function carriedBy(move: Move, from: Medium, pair: number): Layout | undefined {
  const { source } = move.row.survey!.pairs[pair]
  const { volume } = move.pairs[pair]
  if (from.kind === 'drive')
    return from.drive.id === move.pairs[pair].source.id
      ? undefined
      : onTheWay(source, move.row.route!.via[from.drive.id])
  // The move's own drive may be one that stands for this image.
  if (from.name === move.pairs[pair].source.image) return undefined
  const given = move.row.route!.via[givenImage(from.name)]
  if (!given) return inImage(source, volume)
  // One that was made before holds what the drive held then.
  const parts = (survey: DriveSurvey) =>
    JSON.stringify(survey.partitions.map((p) => [p.number, p.startBytes, p.sizeBytes]))
  if (parts(given) !== parts(source)) throw new Refusal('leg-image-differs', { image: from.name })
  return { ...inImage(source), targetSizeBytes: given.sizeBytes, sectorSize: given.logicalSectorSize }
}

/** Where the survey of an image is kept that the move began with. */
export const givenImage = (name: string) => `image ${name}`

function driveOnBench({ bench }: Move, id: string): Drive {
  const found = bench.drives.find((d) => d.id === id)
  if (!found) throw new Refusal('leg-drive-gone')
  return found
}

function inImage(source: DriveSurvey, volume?: number): Layout {
  const result = layoutInImage(source, volume)
  if (!result.fits) throw new Refusal('leg-does-not-fit', { why: result.obstacles[0].sentence })
  return result.layout
}

function onTheWay(source: DriveSurvey, via: DriveSurvey | undefined): Layout {
  if (!via) throw new Refusal('leg-drive-unread')
  const result = layoutOnTheWay(source, via)
  if (!result.fits) throw new Refusal('leg-does-not-fit', { why: result.obstacles[0].sentence })
  return result.layout
}

/** The phase of the hands that Swap shows: the one that is next, else the last that was done. */
export function phaseNow({ phase, copied, legs }: Progress): number {
  return phase ?? Math.min(copied, legs.length)
}

/** The phase of the step that was ticked last, while that can be unticked: nothing was copied since. */
export function phaseToUntick({ row }: Move, { copied, copies }: Progress): number | undefined {
  const phases = row.swap?.phases ?? []
  const phase = phases.findLastIndex((stored) => stored.done.length > 0)
  return phase < 0 || phase < copied || copies[phase] || row.handover ? undefined : phase
}

/** Steps that wait for a start from the new drive: none of them is done yet, or some are. */
export function stepsAfterStart(move: Move, progress: Progress): readonly SwapStep[] {
  const phase = progress.legs.length
  if (progress.copied < phase || progress.phase !== undefined) return []
  const { steps, done } = stepsOf(move, progress, phase)
  return steps.slice(done.length).filter((s) => s.afterStart)
}

/** What the copy writes into the target's first sector; tells a target of this move from any other. */
export function copyNote(move: Move, { from }: Pick<LegNow, 'from'>): string {
  const origin = from.kind === 'drive' ? from.drive.serial : from.name
  return `${move.brief.name}, ${move.brief.customer}, from ${origin}`.replace(/[^\x20-\x7e]/g, '?')
}
