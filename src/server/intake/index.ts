import { BriefSchema, type Brief, whyNotTaken } from '@/core/intake/brief'
import { measureSpeed, type Speed } from '@/core/intake/speed'
import { type BenchState, berthOf } from '@/core/things/bench'
import { type Drive, driveName, hasBytes } from '@/core/things/drive'
import { LINKS } from '@/core/things/links'
import { activeBench, benchState, withDrive } from '../bench'
import { addMove } from '../bench/make'
import { benchNow } from '../clock'
import { refuseAfterCopy } from '../copy/current'
import { MoveRow } from '../database/models'
import { publish } from '../events'
import { freeId } from '../ids'
import { note } from '../logbook'
import { keep, loadMove, type Move, moveRow, whatIsGone } from '../move'
import { spokenFor } from '../move/spoken-for'
import { inBenchQueue } from '../queue'
import { Refusal } from '../refusal'

/** Takes the facts of the move as right, so that the drives can be read. */
export async function confirmIntake(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (move.row.intake) return
  await keep(moveId, { intake: { at: await benchNow(), speeds: await measured(move) } })
  await note(moveId, `taken in: ${move.brief.reason}`)
}

/** How long a drive tries a sector that it cannot read, as common drives do. */
const RETRY_SECONDS = 2

/** Measures what every source that is connected and has bytes does now. */
async function measured(move: Move) {
  const speeds: NonNullable<MoveRow['intake']>['speeds'] = {}
  for (const { source } of move.pairs) {
    const speed = await speedOf(source, move.bench)
    if (speed) speeds[source.id] = { ...speed, at: await benchNow() }
  }
  return speeds
}

/** What a drive does where it is; undefined for one that is not connected, or has no bytes. */
export async function speedOf(drive: Drive, bench: BenchState): Promise<Speed | undefined> {
  const berth = berthOf(drive, bench)
  if (!berth.link || !hasBytes(drive)) return undefined
  const link = LINKS[berth.link]
  const cost = {
    readBytesPerSecond: Math.min(drive.readBytesPerSecond, link.bytesPerSecond),
    requestSeconds: drive.requestSeconds,
    retrySeconds: RETRY_SECONDS,
  }
  return withDrive(drive, (device) => measureSpeed(device, cost, `${berth.name}, ${link.name}`))
}

/** Measures the old drives again, as long as nothing was copied. */
export async function measureAgain(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  await refuseAfterCopy(moveId)
  const speeds = await measured(move)
  if (Object.keys(speeds).length === 0)
    throw new Refusal('No drive of this move is connected, so there is nothing to measure.')
  await keep(moveId, { intake: { at: move.row.intake?.at ?? (await benchNow()), speeds } })
  await note(moveId, 'old drive measured')
}

/** Opens a new move on the bench that is shown. Returns its id. Throws Refusal when it contradicts itself. */
export async function newMove(input: unknown): Promise<string> {
  const brief = await checked(input)
  return inBenchQueue(() => addMoveOf(brief))
}

async function addMoveOf(brief: Brief): Promise<string> {
  const { id: benchId } = await activeBench()
  await refuseSharedDrives(brief, benchId, undefined)
  const id = await freeId(brief.name, 'move', async (taken) => (await MoveRow.count({ where: { id: taken } })) > 0)
  await addMove(benchId, id, brief)
  await note(id, 'move opened')
  publish({ type: 'changed', moveId: null })
  return id
}

/** Changes what a move is about, while nothing of it was copied. What was read and planned is let go. */
export async function changeMove(moveId: string, input: unknown): Promise<void> {
  const brief = await checked(input)
  await inBenchQueue(() => changeInTurn(moveId, brief))
}

async function changeInTurn(moveId: string, brief: Brief): Promise<void> {
  const row = await moveRow(moveId)
  await refuseAfterCopy(moveId)
  await refuseSharedDrives(brief, row.benchId, moveId)
  const sameDrives =
    JSON.stringify(brief.pairs) === JSON.stringify(row.brief.pairs) && brief.computerId === row.brief.computerId
  const sameGoal =
    brief.toVirtualMachine === row.brief.toVirtualMachine && brief.targetComputerId === row.brief.targetComputerId
  const letGo =
    sameDrives && sameGoal ? {} : { intake: null, survey: null, route: null, fit: null, ready: null, swap: null }
  await MoveRow.update({ brief, ...letGo }, { where: { id: moveId } })
  await note(moveId, 'intake changed')
  publish({ type: 'changed', moveId })
}

async function checked(input: unknown): Promise<Brief> {
  const brief = BriefSchema.parse(input)
  const why = whyNotTaken(brief)
  if (why) throw new Refusal(why, 400)
  return brief
}

/** What others have is not written to, and what others write to is no source. Throws Refusal. */
async function refuseSharedDrives(brief: Brief, benchId: string, besides: string | undefined): Promise<void> {
  const bench = await benchState(benchId)
  const gone = whatIsGone(brief, bench)
  if (gone) throw new Refusal(gone)
  const taken = await spokenFor(bench, benchId, besides)
  for (const { targetId } of brief.pairs) {
    const why = targetId === null ? undefined : taken.get(targetId)
    if (why) throw new Refusal(why)
  }
  for (const row of await MoveRow.findAll({ where: { benchId } })) {
    if (row.id === besides || row.handover) continue
    for (const { sourceId } of brief.pairs) {
      const source = bench.drives.find((d) => d.id === sourceId)
      if (source && row.brief.pairs.some((theirs) => theirs.targetId === sourceId))
        throw new Refusal(
          `The ${driveName(source)} is written to by another move: ${row.brief.name}, ${row.brief.customer}. It cannot be a source.`,
        )
    }
  }
}
