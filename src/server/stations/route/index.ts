import { LRUCache } from 'lru-cache'
import * as z from 'zod'
import { ACCESSORY_MODELS } from '@/bench/catalogue'
import { toHex } from '@/core/digest'
import { obstaclesOf, openingsOf } from '@/core/route/obstacles'
import type { RouteQuestion } from '@/core/route/question'
import { findPlans } from '@/core/route/search'
import { TARGETS } from '@/core/image'
import { legsOf, type PlacedMedium, type Plan } from '@/core/route/types'
import { roomForImages } from '@/core/survey/room-for-images'
import type { DriveSurvey } from '@/core/survey/types'
import { type Accessory, AccessorySchema } from '@/core/things/accessory'
import { type Drive, driveName } from '@/core/things/drive'
import { sha256 } from '@/host/sha256'
import type { RouteResult } from '../../database/schemas'
import { Refusal } from '../../ground/refusals'
import { imagesFolder } from '../../ground/paths'
import { singleton } from '../../ground/singleton'
import { freeName, imagePath } from '../../images/names'
import { runTask } from '../../jobs/threads'
import { saveStationResults, loadMove, type Move } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { givenImage } from '../../moves/legs'
import { diskFormatOf, makeMachine } from '../../moves/machine'
import { claimedDrives, notYet, questionOf } from '../../moves/question'
import { driveSubject } from '../../world'
import { benchNow } from '../../world/clock'

/** Things that could be had, for what one of them would open. */
const AVAILABLE: readonly Accessory[] = Object.entries(ACCESSORY_MODELS).map(([id, model]) =>
  AccessorySchema.parse({ ...model, id: `to-be-had-${id}` }),
)

/** Every route, those that can be carried out first, and what is in the way of others. */
export async function routesOf(move: Move): Promise<Routes> {
  const question = await questionOf(move)
  // Nothing but the question says what comes out, and a page asks the same again and again.
  const key = toHex(sha256(new TextEncoder().encode(JSON.stringify(question))))
  const before = kept().get(key)
  if (before) return before
  const routes = search(question)
  kept().set(key, routes)
  return routes
}

const MOST_KEPT = 50
const kept = () => singleton('routes', () => new LRUCache<string, Routes>({ max: MOST_KEPT }))

type Routes = ReturnType<typeof search>

function search(question: RouteQuestion) {
  const planned = (plan: Plan) => Number(notYet(plan) !== null)
  const plans = findPlans(question).sort((a, b) => planned(a) - planned(b))
  return {
    plans,
    obstacles: obstaclesOf(question),
    openings: openingsOf(question, plans, AVAILABLE, (plan) => notYet(plan) === null),
  }
}

export const TakeRouteSchema = z.object({ plan: z.string().max(2000) })

/** Takes one of the plans, with the times it has now. What lies on the drives on the way is read. */
export async function takeRoute(moveId: string, input: unknown): Promise<void> {
  const { plan: id } = TakeRouteSchema.parse(input)
  const move = await loadMove(moveId)
  if (!move.row.survey?.confirmed) throw new Refusal('survey-unconfirmed')
  await refuseAfterCopy(moveId)
  const question = await questionOf(move)
  const plan = findPlans(question).find((p) => p.id === id)
  if (!plan) throw new Refusal('route-gone')
  const others = await claimedDrives(move)
  for (const { target } of move.pairs) {
    const by = target && others.get(target.id)
    if (by) throw new Refusal('route-target-taken', { drive: driveName(target), move: by })
  }
  const via: Record<string, DriveSurvey> = {}
  const images: RouteResult['images'] = []
  const read = async (drive: Drive) => runTask('surveySubject', driveSubject(drive))
  const { legs } = legsOf(plan)
  for (const [leg, { transfer }] of legs.entries()) {
    const { from, to, pair } = transfer
    const isTarget = to.kind === 'drive' && move.pairs.some((p) => p.target?.id === to.driveId)
    if (to.kind !== 'drive') images.push(await imageFor(move, to, { leg, pair }, read))
    else if (!isTarget) via[to.driveId] = await read(driveById(move, to.driveId))
    const isGiven = from.kind === 'image' && !legs.slice(0, leg).some((l) => l.transfer.pair === pair)
    if (!isGiven) continue
    const name = (pair === 0 ? move.brief.images.at(0) : undefined) ?? move.pairs[pair].source.image
    if (name === null) throw new Refusal('leg-image-unknown')
    images.push({ leg, end: 'from', name, format: 'raw', volume: null })
    const file = await imagePath(name)
    via[givenImage(name)] = await runTask('surveySubject', { kind: 'image', file, within: imagesFolder() })
  }
  const written = legs.flatMap(({ transfer: { to } }, leg) =>
    to.kind === 'virtual-disk'
      ? [{ hostId: to.hostId, file: images.find((i) => i.leg === leg && i.end === 'to')!.name }]
      : [],
  )
  const machine =
    written.length > 0
      ? await makeMachine(
          move,
          written[0].hostId,
          written.map((w) => w.file),
        )
      : null
  await saveStationResults(
    moveId,
    { route: { at: await benchNow(), plan, via, images, machine }, swap: null },
    `route chosen: ${plan.title.toLowerCase()}`,
  )
}

/** What the images on the way are: known to every reader, and without an end that a drive of today meets. */
const IMAGE_FORMAT = 'vhdx'

/** Names an image that a leg makes, with the volume it is put into where its store is a drive. */
async function imageFor(
  move: Move,
  to: Exclude<PlacedMedium, { kind: 'drive' }>,
  { leg, pair }: { leg: number; pair: number },
  read: (drive: Drive) => Promise<DriveSurvey>,
): Promise<RouteResult['images'][number]> {
  const { brief, pairs, bench } = move
  const which = to.kind === 'image' ? pairs[pair].source.serial : `disk ${pair + 1}`
  // Names of files have none of these anywhere.
  const stem = `${brief.name} ${which}`.replace(/[\\/:*?"<>|\0-\x1f]+/g, ' ').trim()
  const format = to.kind === 'image' ? IMAGE_FORMAT : diskFormatOf(move, to.hostId).format
  const wished = `${stem}.${TARGETS[format].extension}`
  const common = { leg, end: 'to', format } as const
  const store = to.kind === 'image' ? bench.drives.find((d) => d.id === to.store) : undefined
  if (!store) return { ...common, name: await freeName(wished), volume: null }
  const room = roomForImages(await read(store))
  if (!room) throw new Refusal('route-no-volume', { drive: driveName(store) })
  const { partition, offset, length } = room
  return { ...common, name: wished, volume: { partition, offset, length } }
}

function driveById({ bench }: Move, id: string): Drive {
  const drive = bench.drives.find((d) => d.id === id)
  if (!drive) throw new Refusal('leg-drive-gone')
  return drive
}
