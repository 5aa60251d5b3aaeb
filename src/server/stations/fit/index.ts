import * as z from 'zod'
import { whyNotBeside } from '@/core/fit/beside'
import { targetOf } from '@/core/fit/ends'
import { solveInto } from '@/core/fit/into'
import { solveFit } from '@/core/fit/solve'
import { type FitObstacle, FitWishSchema, type Layout } from '@/core/fit/types'
import { fingerprintOf } from '@/core/survey/fingerprint'
import { type Drive, driveName } from '@/core/things/drive'
import type { MoveRow } from '../../database/models'
import { inMoveQueue } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { saveStationResults, loadMove, type Move, moveRow, oldDriveStays } from '../../moves'
import { changeMove } from '../../moves/change'
import { refuseAfterCopy } from '../../moves/copies'
import { diskLimitOf } from '../../moves/machine'
import { runTask } from '../../jobs/threads'
import { bytesOnDisk, withDrive } from '../../world'
import { benchNow } from '../../world/clock'

/** How many fits that were let go are kept for comparing. */
const EARLIER = 8

export const LockFitSchema = z.object({
  wish: FitWishSchema,
  pair: z.number().int().nonnegative().default(0),
  /** Size of a virtual disk that is still to be made. */
  virtualBytes: z.number().int().positive().optional(),
})

/** Solves the fit of one drive with these rules once more and locks what comes out; Copy writes that. */
export async function lockFit(moveId: string, input: unknown): Promise<void> {
  const { wish, pair, virtualBytes } = LockFitSchema.parse(input)
  const move = await loadMove(moveId)
  const { row } = move
  if (!row.survey || !row.route) throw new Refusal('no-route')
  await refuseAfterCopy(moveId)
  const changed = await whatChanged(move)
  if (changed) throw new Refusal('fit-drives-changed', { why: changed })
  const survey = row.survey.pairs.at(pair)
  if (!survey) throw new Refusal('drive-not-of-move')
  const { volume } = move.pairs[pair]
  const limit = survey.target ? undefined : diskLimitOf(row.route)
  const diskBytes = virtualBytes ?? survey.source.sizeBytes
  if (limit && diskBytes > limit.bytes)
    throw new Refusal('fit-disk-beyond-format', { format: limit.format, mostBytes: limit.bytes, diskBytes })
  const result =
    volume !== undefined && survey.target
      ? solveInto(survey.source, survey.target, volume, wish)
      : solveFit(survey.source, targetOf(survey.source, survey.target, virtualBytes), wish)
  const beside = oldDriveStays(move) ? whyNotBeside(survey.source, wish) : undefined
  if (move.brief.series !== undefined && wish.identity?.of !== 'all') throw new Refusal('fit-keeps-identity')
  if (beside) throw new Refusal('fit-does-not-fit', { why: beside })
  if (!result.fits) throw new Refusal('fit-does-not-fit', { why: result.obstacles[0].sentence })
  const { layout, headline, reason } = result
  // A drive that cannot be opened now is tried when it is copied.
  const inTheWay = await rehearsed(move.pairs[pair].source, layout)
  if (inTheWay.length > 0) throw new Refusal('fit-does-not-fit', { why: `${inTheWay[0].sentence} ${inTheWay[0].mend}` })
  const fits = row.survey.pairs.map((_, i) => row.fit?.pairs[i] ?? null)
  fits[pair] = { at: await benchNow(), wish, layout, headline, reason }
  const which = move.pairs.length > 1 ? ` of the ${driveName(move.pairs[pair].source)}` : ''
  await saveStationResults(moveId, { fit: { pairs: fits, earlier: row.fit?.earlier ?? [] } }, `fit${which} locked`)
}

/** What on the source would keep the layout from being written; nothing where that cannot be told. */
async function rehearsed(source: Drive, layout: Layout): Promise<FitObstacle[]> {
  try {
    return await runTask('rehearseLayout', { drive: bytesOnDisk(source), layout })
  } catch {
    return []
  }
}

/** Lets the fits go, so that they can be changed; they can still be compared with. */
export async function unlockFit(moveId: string): Promise<void> {
  const { row } = await loadMove(moveId)
  await refuseAfterCopy(moveId)
  await letGo(row, 'fit unlocked')
}

async function letGo({ id, fit }: MoveRow, line: string): Promise<void> {
  if (!fit?.pairs.some((p) => p)) return
  const now = fit.pairs.flatMap((locked, pair) => (locked ? [{ ...locked, pair }] : []))
  const earlier = [...now, ...fit.earlier].slice(0, EARLIER)
  await saveStationResults(id, { fit: { pairs: fit.pairs.map(() => null), earlier } }, line)
}

/** Which drive of a move is another than when it was read, as a sentence; undefined when none is. */
async function whatChanged({ row, pairs }: Move): Promise<string | undefined> {
  for (const [i, { source, target }] of pairs.entries()) {
    const read = row.survey!.pairs[i]
    for (const [drive, survey] of [
      [source, read.source],
      [target, read.target],
    ] as const) {
      if (!drive || !survey) continue
      const now = await withDrive(drive, fingerprintOf).catch(() => undefined)
      if (now !== undefined && now !== survey.fingerprint) {
        return `The table of the ${driveName(drive)} has changed since it was read, so no fit that rests on that reading is valid. Read the drives again.`
      }
    }
  }
  return undefined
}

/**
 * Looks whether the drives are still those that were read, while nothing was copied. A locked fit that rests on
 * another reading is unlocked. Returns the sentence that says so.
 */
export async function releaseStale(move: Move, copied: boolean): Promise<string | undefined> {
  const { row } = move
  if (copied || !row.survey) return undefined
  const changed = await whatChanged(move)
  if (!changed || !row.fit) return changed
  if (row.fit.pairs.some((p) => p)) {
    await inMoveQueue(row.id, async () => {
      const now = await moveRow(row.id)
      if (!now.fit?.pairs.some((p) => p)) return
      await letGo(now, 'fit unlocked: a drive has changed')
    })
  }
  return `${changed} The fit is unlocked.`
}

const TakeTargetSchema = z.object({ pair: z.number().int().nonnegative(), driveId: z.string().max(80) })

/** Makes another drive the target of a pair. The route is chosen anew after that. */
export async function takeTarget(moveId: string, input: unknown): Promise<void> {
  const { pair, driveId } = TakeTargetSchema.parse(input)
  const { brief } = await loadMove(moveId)
  if (!brief.pairs[pair]) throw new Refusal('drive-not-of-move')
  const pairs = brief.pairs.map((p, i) => (i === pair ? { ...p, targetId: driveId } : p))
  await changeMove(moveId, { ...brief, pairs })
}
