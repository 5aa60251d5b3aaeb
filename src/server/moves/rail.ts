import { formatSize } from '@/core/bytes/size'
import { railOf, type RailStop, type StationId } from '@/core/move/stations'
import { lowerFirst } from '@/core/words'
import type { MoveRow } from '../database/models'
import type { Progress } from './legs'

/** What of a move its rail is made from; no survey, fit or proof has to be read for it. */
export type RailRow = Pick<MoveRow, 'brief' | 'handover' | 'surveyNote' | 'fitNote' | 'proofNote'> & {
  readonly takenIn: boolean
}

export function railRow(row: MoveRow): RailRow {
  const { brief, handover, surveyNote, fitNote, proofNote } = row
  return { brief, handover, surveyNote, fitNote, proofNote, takenIn: row.intake !== null }
}

/** The rail of a move, from what its stations have left behind. With several legs it tells which one it is in. */
export function moveRail(row: RailRow, progress: Progress | undefined): RailStop[] {
  const results: Partial<Record<StationId, string | true>> = {}
  if (row.takenIn) results.intake = row.brief.reason
  if (row.surveyNote) results.survey = row.surveyNote
  if (progress) results.route = routeNote(progress)
  if (row.fitNote) results.fit = row.fitNote
  if (!row.fitNote || !progress) return railOf(results)

  const { legs, copies, copied, phase, leg } = progress
  const copy = copies[leg]
  const started = copy && ['running', 'paused', 'done'].includes(copy.status)
  const between = copied < legs.length
  // Between two legs Swap comes before Ready: what hands do then belongs to the leg that was copied.
  const handsFirst = phase !== undefined && phase > 0
  if (started && !between) results.ready = 'all settled'
  if (between && (handsFirst || started)) results.ready = 'all settled'
  if (!between) results.copy = copyNote(progress)
  else if (handsFirst) results.copy = `leg ${copied} of ${legs.length} copied`
  if (!between && phase === undefined)
    results.swap =
      row.brief.oldDrive === 'stays'
        ? 'both drives in'
        : row.brief.pairs.some((p) => p.volume !== undefined)
          ? 'drives in place'
          : 'old drive out'
  if (results.swap && row.proofNote) results.proof = row.proofNote
  if (row.handover) results.handover = 'handed over'
  const rail = railOf(results)
  if (legs.length === 1 || row.handover) return rail
  const shown = handsFirst ? phase : leg + 1
  return rail.map((stop) =>
    stop.state === 'current' && ['ready', 'copy', 'swap'].includes(stop.id)
      ? { ...stop, note: `leg ${Math.min(shown, legs.length)} of ${legs.length}` }
      : stop,
  )
}

/** Bytes that all finished legs copied. */
export function copiedBytes({ copies }: Progress): number {
  return copies.reduce((sum, c) => sum + (c?.summary?.copiedBytes ?? 0), 0)
}

function copyNote(progress: Progress): string {
  const lost = progress.copies.flatMap((c) => c?.summary?.lost ?? []).reduce((sum, run) => sum + run.sectors, 0)
  const unread = progress.copies.some((c) => c?.summary?.checkedBytes === 0)
  const result = lost > 0 ? `${lost} sectors lost` : unread ? 'not read back' : 'equal'
  return `${formatSize(copiedBytes(progress))}, ${result}`
}

function routeNote({ plan, legs }: Progress): string {
  const [title] = plan.title.split(',')
  const words = lowerFirst(title)
  return words.startsWith('two legs') ? words : `${words}, ${legs.length} ${legs.length === 1 ? 'leg' : 'legs'}`
}
