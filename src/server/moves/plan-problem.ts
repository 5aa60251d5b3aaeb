import { beforePlay, type Played, whyItFails } from '@/core/route/play'
import { findPlans } from '@/core/route/search'
import { mediumKey } from '@/core/route/transfers'
import { formatRange } from '@/core/route/timing'
import type { Action, PlacedMedium, Plan } from '@/core/route/types'
import { type BenchState, driveIn, placeName, samePlace } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName, type Place } from '@/core/things/drive'
import { type Move, moveRow } from '.'
import { moveClaims } from './claims'
import { type Progress, progressOf } from './legs'
import { claimedDrives, notYet, pairsOf, questionOf } from './question'

/** What stands in the way of a plan that was taken, and the nearest one that works. */
export interface PlanProblem {
  /** The plan cannot go on as it is; else it only clashes with another move's. */
  readonly stops: boolean
  readonly sentence: string
  /** What has to go back where, as `the Corvina S5 960 GB into USB dock A, bay 1`; null where it is something else. */
  readonly putBack: string | null
  readonly instead: { readonly id: string; readonly title: string; readonly time: string } | null
}

/** Looks whether what is left of a taken plan can be done with the bench as it is now. */
export async function planProblem(
  move: Move,
  progress: Progress | undefined,
  { withNearest = true } = {},
): Promise<PlanProblem | undefined> {
  if (!progress || move.row.handover) return undefined
  const copying = progress.copies.some((c) => c?.status === 'running' || c?.status === 'paused')
  const allDone = progress.copied === progress.legs.length && progress.phase === undefined
  if (copying || allDone) return undefined
  const left = actionsLeft(move, progress)
  const sentence = whyItFails({ actions: left }, 0, played(move, asPlanned(move, left), progress), pairsOf(move))
  if (sentence) {
    // A copy that was begun goes on where its drives were, and by no other route.
    const begun = progress.copies.some((copy) => copy !== undefined)
    const instead = withNearest && !begun ? await nearest(move, progress.plan) : null
    return { stops: true, sentence, putBack: putBackOf(move, left) ?? null, instead }
  }
  const clash = await clashOf(move, left)
  return clash ? { stops: false, sentence: clash, putBack: null, instead: null } : undefined
}

/** The drive of the next copy that is not where the plan has it, and that no step of the plan puts there. */
function putBackOf({ bench }: Move, left: readonly Action[]): string | undefined {
  const next = left.findIndex((action) => action.do === 'transfer')
  const transfer = left[next]
  if (transfer?.do !== 'transfer') return undefined
  const put = left.slice(0, next).flatMap((action) => (action.do === 'put' ? [action.driveId] : []))
  for (const medium of [transfer.from, transfer.to]) {
    if (medium.kind !== 'drive' || put.includes(medium.driveId)) continue
    const drive = bench.drives.find((d) => d.id === medium.driveId)
    if (drive && !samePlace(drive.place, medium.place))
      return `the ${driveName(drive)} into ${placeName(medium.place, bench)}`
  }
  return undefined
}

/** A bench with what the finished legs have left on its drives. */
function played(move: Move, bench: BenchState, { legs, copied }: Progress): Played {
  const before = beforePlay(bench, pairsOf(move))
  const holds = new Map(before.holds)
  for (const { transfer } of legs.slice(0, copied)) holds.set(mediumKey(transfer.to, transfer.pair), transfer.pair)
  return { bench, holds }
}

/** A bench of this move with what its drives hold by now. */
export async function heldNow(move: Move, bench: BenchState): Promise<Played> {
  const progress = await progressOf(move.row)
  return progress ? played(move, bench, progress) : beforePlay(bench, pairsOf(move))
}

/** What of the plan is still to be done: all that comes after the last copy and the last ticked step. */
function actionsLeft({ row }: Move, { legs, hands, copied, phase }: Progress): Action[] {
  const rest: Action[] = []
  for (let k = copied; k < hands.length; k++) {
    const ticked = new Set(
      (row.swap?.phases[k]?.steps ?? [])
        .filter((s) => row.swap!.phases[k].done.some((d) => d.id === s.id))
        .flatMap((s) =>
          s.effect?.kind === 'take' || s.effect?.kind === 'put' ? [`${s.effect.kind} ${s.effect.driveId}`] : [],
        ),
    )
    const begun = k === copied && phase === undefined
    rest.push(
      ...hands[k].filter((h) =>
        h.do === 'take' || h.do === 'put' ? !begun && !ticked.has(`${h.do} ${h.driveId}`) : true,
      ),
    )
    if (k < legs.length) rest.push(legs[k].transfer)
  }
  return rest
}

/** What plans are played on, of benches as they are; a bench never changes, and is asked for each of its moves. */
interface Board {
  readonly drives: ReadonlyMap<string, Drive>
  /** Drives in a place that others want. */
  readonly seated: readonly Drive[]
  /** All computers without power, and where each of them is among them. */
  readonly off: readonly Computer[]
  readonly at: ReadonlyMap<string, number>
}

const boards = new WeakMap<BenchState, Board>()

const isSeated = ({ place }: Drive) => place.kind !== 'table' && place.kind !== 'shelf'

function boardOf(bench: BenchState): Board {
  const before = boards.get(bench)
  if (before) return before
  const board = {
    drives: new Map(bench.drives.map((d) => [d.id, d])),
    seated: bench.drives.filter(isSeated),
    off: bench.computers.map((c) => ({ ...c, running: 'off' as const, mains: false })),
    at: new Map(bench.computers.map((c, i) => [c.id, i])),
  }
  boards.set(bench, board)
  return board
}

/**
 * The bench with its computers as the rest of the plan expects them, since whether one is on or off is settled in Ready
 * and by the steps, and is no reason to give a plan up; and with the drives that can matter to it: those that it names,
 * and those that sit anywhere.
 */
function asPlanned({ bench, pairs }: Move, left: readonly Action[]): BenchState {
  const board = boardOf(bench)
  const computers = [...board.off]
  for (const action of left.toReversed()) {
    const id = 'computerId' in action ? action.computerId : action.do === 'transfer' ? action.by : null
    const at = id === null ? undefined : board.at.get(id)
    // The first that is done with it decides.
    if (at !== undefined) computers[at] = expectedFor(action, bench.computers[at], board.off[at])
  }
  const named = new Set(pairs.flatMap(({ source, target }) => (target ? [source.id, target.id] : [source.id])))
  collectTexts(left, named)
  const lying = [...named].flatMap((id) => board.drives.get(id) ?? []).filter((drive) => !isSeated(drive))
  return { ...bench, computers, drives: [...board.seated, ...lying] }
}

function expectedFor(action: Action, computer: Computer, off: Computer): Computer {
  if (action.do === 'secure-boot') return off
  if (action.do === 'transfer') return { ...off, running: action.live ? 'system' : 'stick', mains: computer.mains }
  return action.do === 'start' ? off : computer
}

/** Every text in a plan, the ids of its drives among them. */
function collectTexts(value: unknown, into: Set<string>): void {
  if (typeof value === 'string') into.add(value)
  else if (typeof value === 'object' && value !== null)
    for (const part of Object.values(value)) collectTexts(part, into)
}

/** The plan that works now and shares most with the one that does not. */
async function nearest(move: Move, plan: Plan): Promise<PlanProblem['instead']> {
  const plans = findPlans(await questionOf(move)).filter((p) => p.id !== plan.id)
  const shared = (p: Plan) =>
    Number(p.live === plan.live) * 2 +
    Number(
      p.actions.filter((a) => a.do === 'transfer').length === plan.actions.filter((a) => a.do === 'transfer').length,
    ) *
      2 +
    Number(p.testedInPlace === plan.testedInPlace) +
    p.things.filter((t) => plan.things.includes(t)).length +
    Number(notYet(p) === null) * 4
  const best = plans.reduce<Plan | undefined>((a, b) => (!a || shared(b) > shared(a) ? b : a), undefined)
  return best ? { id: best.id, title: best.title, time: formatRange(best.lowSeconds, best.highSeconds) } : null
}

/** Another move that wants the same target or the same place while this one does. */
async function clashOf(move: Move, left: readonly Action[]): Promise<string | undefined> {
  const others = await claimedDrives(move)
  for (const { target } of move.pairs) {
    const by = target && others.get(target.id)
    if (by) return `The ${driveName(target)} is also the target of ${by}. One of the two needs another drive.`
  }
  const ours = baysOf(left)
  if (ours.size === 0) return undefined
  for (const claim of await moveClaims(move.row.benchId)) {
    if (claim.id === move.id || claim.handedOver) continue
    if (![...baysOf(claim.transfers).keys()].some((key) => ours.has(key))) continue
    const row = await moveRow(claim.id)
    const progress = await progressOf(row)
    if (!progress || progress.copied === progress.legs.length) continue
    const theirs = baysOf(progress.legs.slice(progress.copied).map((l) => l.transfer))
    const both = [...ours.keys()].find((key) => theirs.has(key))
    if (both === undefined) continue
    const sits = driveIn(move.bench, ours.get(both)!)
    const what = both.replace(/^bay\/[^/]+\//, '')
    const name = move.bench.accessories.find((a) => both.startsWith(`bay/${a.id}/`))?.name ?? 'dock'
    return `${row.brief.name} wants the same place, ${what} of the ${name}${sits ? `, where the ${driveName(sits)} sits now` : ''}. The one that is copied first has it.`
  }
  return undefined
}

function baysOf(actions: readonly Action[]): Map<string, Place> {
  const bays = new Map<string, Place>()
  const add = (medium: PlacedMedium) => {
    const place = medium.kind === 'virtual-disk' ? null : medium.place
    if (place?.kind === 'bay') bays.set(`bay/${place.accessoryId}/${place.bay}`, place)
  }
  for (const action of actions) {
    if (action.do !== 'transfer') continue
    add(action.from)
    add(action.to)
  }
  return bays
}
