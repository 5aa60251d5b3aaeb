import { type Brief, BriefSchema, mayStay, whyNotTaken } from '@/core/intake/brief'
import { driveName } from '@/core/things/drive'
import { MoveRow } from '../database/models'
import { inTransaction } from '../database/transaction'
import { publish } from '../ground/events'
import { inMoveQueue } from '../ground/queue'
import { freeId } from '../ground/ids'
import { Refusal } from '../ground/refusals'
import { activeBench, benchState } from '../world'
import { addMove } from '../world/make'
import { moveRow, whatIsGone, saveStationResults } from '.'
import { refuseAfterCopy } from './copies'
import { note } from './logbook'
import { reservedDrives } from './reserved-drives'

/** Opens a new move on the bench that is shown. Returns its id. Throws Refusal when it contradicts itself. */
export async function newMove(input: unknown): Promise<string> {
  const brief = await checked(input)
  return inTransaction(() => addMoveOf(brief))
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
  // A check that still runs may be storing what it found of the drives that are let go of.
  await inMoveQueue(moveId, () => inTransaction(() => changeInTurn(moveId, brief)))
}

async function changeInTurn(moveId: string, brief: Brief): Promise<void> {
  const row = await moveRow(moveId)
  await refuseAfterCopy(moveId)
  await refuseSharedDrives(brief, row.benchId, moveId)
  const sameDrives =
    JSON.stringify(brief.pairs) === JSON.stringify(row.brief.pairs) && brief.computerId === row.brief.computerId
  const sameGoal =
    brief.toVirtualMachine === row.brief.toVirtualMachine &&
    brief.targetComputerId === row.brief.targetComputerId &&
    brief.oldDrive === row.brief.oldDrive
  const letGo =
    sameDrives && sameGoal ? {} : { intake: null, survey: null, route: null, fit: null, ready: null, swap: null }
  await saveStationResults(moveId, { brief, ...letGo }, 'intake changed')
}

async function checked(input: unknown): Promise<Brief> {
  const brief = BriefSchema.parse(input)
  const why = whyNotTaken(brief)
  if (why) throw new Refusal('move-contradicts-itself', { why })
  return brief
}

/** What others have is not written to, and what others write to is no source. Throws Refusal. */
async function refuseSharedDrives(brief: Brief, benchId: string, besides: string | undefined): Promise<void> {
  const bench = await benchState(benchId)
  const gone = whatIsGone(brief, bench)
  if (gone) throw new Refusal('move-incomplete', { why: gone })
  const fixed = bench.drives.find(
    (d) => d.body.form === 'built-in' && brief.pairs.some((p) => p.sourceId === d.id) && mayStay(brief),
  )
  if (fixed && brief.oldDrive !== 'stays') throw new Refusal('drive-built-in', { drive: driveName(fixed) })
  const taken = await reservedDrives(bench, benchId, besides)
  for (const { targetId } of brief.pairs) {
    const why = targetId === null ? undefined : taken.get(targetId)
    if (why) throw new Refusal('drive-reserved', { why })
  }
  for (const row of await MoveRow.findAll({ where: { benchId } })) {
    if (row.id === besides || row.handover || row.standing?.kind === 'given-up') continue
    for (const { sourceId } of brief.pairs) {
      const source = bench.drives.find((d) => d.id === sourceId)
      if (source && row.brief.pairs.some((theirs) => theirs.targetId === sourceId))
        throw new Refusal('source-is-target', {
          drive: driveName(source),
          move: row.brief.name,
          customer: row.brief.customer,
        })
    }
  }
}
