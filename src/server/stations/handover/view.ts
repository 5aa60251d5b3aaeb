import { clockTime, dayAfter } from '../../ground/words'
import { stepsAfterStart } from '../../moves/legs'
import type { MovePage } from '../../moves/page'
import { benchNow } from '../../world/clock'
import { sheetOf } from './sheet'

export async function handoverView({ move, progress, plates }: MovePage) {
  const { row } = move
  const sheet = await sheetOf(move, progress)
  if (!sheet) return undefined
  const open = progress ? stepsAfterStart(move, progress) : []
  return {
    sheet,
    /** Today on the bench, as `2026-05-04`. */
    today: dayAfter(await benchNow(), 0),
    closed: row.handover && { at: clockTime(row.handover.at), shelfUntil: row.handover.shelfUntil },
    /** The first step of closing the case, where that is not done. */
    closing: open[0]?.title ?? null,
    plates: plates.map((p, i) => ({ source: { ...p.source, id: move.pairs[i].source.id }, target: p.target! })),
    profile: row.survey!.pairs[0].source.profile,
    sourceBytes: row.survey!.pairs[0].source.sizeBytes,
  }
}
