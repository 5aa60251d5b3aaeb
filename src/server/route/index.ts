import { ACCESSORY_MODELS } from '@/bench/catalogue'
import { obstaclesOf, openingsOf } from '@/core/route/obstacles'
import type { Pair, PastCopies, RouteQuestion } from '@/core/route/question'
import { findPlans, transferDrives } from '@/core/route/search'
import { whyNotYet } from '@/core/intake/possible'
import { legsOf, type Plan } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import { type Accessory, AccessorySchema, isHost } from '@/core/things/accessory'
import { driveName } from '@/core/things/drive'
import { z } from 'zod'
import { withDrive } from '../bench'
import { knownOf } from '../bench/known'
import { benchNow } from '../clock'
import { refuseAfterCopy } from '../copy/current'
import { CopyRow } from '../database/models'
import { sha256 } from '@/host/sha256'
import { surveyDrive } from '@/core/survey/survey'
import { note } from '../logbook'
import { keep, loadMove, type Move } from '../move'
import { driveWritten, moveClaims } from '../move/claims'
import { Refusal } from '../refusal'

/** Things that could be had, for what one of them would open. */
const AVAILABLE: readonly Accessory[] = Object.entries(ACCESSORY_MODELS).map(([id, model]) =>
  AccessorySchema.parse({ ...model, id: `to-be-had-${id}` }),
)

/** The drives, with what each pair holds, as the search for plans asks. */
export function pairsOf({ brief, row, bench, pairs }: Move): Pair[] {
  const hosts = bench.accessories.filter(isHost).map((h) => h.id)
  return pairs.map(({ source, target }, i) => ({
    sourceId: source.id,
    targetId: target?.id ?? null,
    bytes: row.survey?.pairs[i].source.usedBytes ?? source.sizeBytes,
    imagesAt: i === 0 && brief.images.length > 0 ? hosts.slice(0, 1) : [],
  }))
}

/** Everything the plans of a move are searched for with. */
export async function questionOf(move: Move): Promise<RouteQuestion> {
  const { brief, bench, computer } = move
  const claimed = await claimedDrives(move)
  const question: RouteQuestion = {
    bench,
    computerId: computer.id,
    goal: brief.toVirtualMachine
      ? { kind: 'virtual-machine' }
      : { kind: 'computer', computerId: brief.targetComputerId ?? brief.computerId },
    pairs: pairsOf(move),
    roomOn: {},
    claimedDrives: [...claimed.keys()],
    past: await pastCopies(),
  }
  const room: Record<string, number> = {}
  for (const id of transferDrives(question)) {
    const { freeBytes } = await knownOf(bench.drives.find((d) => d.id === id)!)
    if (freeBytes !== undefined) room[id] = freeBytes
  }
  return { ...question, roomOn: room }
}

/** Every way, those that can be carried out first, and what is in the way of others. */
export async function routesOf(move: Move) {
  const question = await questionOf(move)
  const planned = (plan: Plan) => Number(notYet(move, plan) !== null)
  const plans = findPlans(question).sort((a, b) => planned(a) - planned(b))
  return { plans, obstacles: obstaclesOf(question), openings: openingsOf(question, plans, AVAILABLE) }
}

/** Why a way is planned only, or null for one that can be carried out. */
export function notYet({ brief }: Pick<Move, 'brief'>, plan: Plan): string | null {
  return whyNotYet({ toVirtualMachine: brief.toVirtualMachine, plan }) ?? null
}

export const TakeRouteSchema = z.object({ plan: z.string().max(2000) })

/** Takes one of the plans, with the times it has now. What lies on the drives on the way is read. */
export async function takeRoute(moveId: string, input: unknown): Promise<void> {
  const { plan: id } = TakeRouteSchema.parse(input)
  const move = await loadMove(moveId)
  if (!move.row.survey?.confirmed) throw new Refusal('Finish Survey first.')
  await refuseAfterCopy(moveId)
  const question = await questionOf(move)
  const plan = findPlans(question).find((p) => p.id === id)
  if (!plan)
    throw new Refusal('This way does not work any more: something on the bench has changed. Choose another one.')
  const others = await claimedDrives(move)
  for (const { target } of move.pairs) {
    const by = target && others.get(target.id)
    if (by)
      throw new Refusal(
        `The ${driveName(target)} is the target of another move, ${by}. One of the two needs another drive.`,
      )
  }
  const via: Record<string, DriveSurvey> = {}
  for (const { transfer } of legsOf(plan).legs) {
    const { to } = transfer
    if (to.kind !== 'drive' || move.pairs.some((p) => p.target?.id === to.driveId)) continue
    const drive = move.bench.drives.find((d) => d.id === to.driveId)!
    via[drive.id] = await withDrive(drive, (device) => surveyDrive(device, sha256))
  }
  await keep(moveId, { route: { at: await benchNow(), plan, via }, swap: null })
  await note(moveId, `route taken: ${plan.title.toLowerCase()}`)
}

/** Drives that other moves write to, now or later, with the name of the move. */
export async function claimedDrives({ id, row }: Pick<Move, 'id' | 'row'>): Promise<Map<string, string>> {
  const claimed = new Map<string, string>()
  for (const other of await moveClaims(row.benchId)) {
    if (other.id === id || other.handedOver) continue
    const targets = other.pairs.flatMap((p) => p.targetId ?? [])
    for (const driveId of [...targets, ...other.transfers.flatMap(driveWritten)]) claimed.set(driveId, other.name)
  }
  return claimed
}

/** By the links they went over: how many copies were done, and the mean share of the rate they reached. */
async function pastCopies(): Promise<Record<string, PastCopies>> {
  const rows = await CopyRow.findAll({ where: { status: 'done' }, attributes: ['way', 'share'] })
  const past: Record<string, PastCopies> = {}
  for (const { way, share } of rows) {
    if (way === null || share === null) continue
    const { copies, share: mean } = past[way] ?? { copies: 0, share: 0 }
    past[way] = { copies: copies + 1, share: (mean * copies + share) / (copies + 1) }
  }
  return past
}
