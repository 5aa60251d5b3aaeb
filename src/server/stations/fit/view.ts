import { randomUUID } from 'node:crypto'
import { clockTime } from '../../ground/words'
import { moveRow, hasOwnIdentity, oldDriveStays } from '../../moves'
import { diskLimitOf } from '../../moves/machine'
import type { MovePage } from '../../moves/page'
import { releaseStale } from '.'
import { fitCandidates } from './candidates'
import { roomIsMade } from './room'

export async function fitView({ move, progress, plates, obstacle }: MovePage) {
  const copies = (progress?.copies ?? []).flatMap((c) => (c ? [c] : []))
  const stale = await releaseStale(move, copies.length > 0)
  const { survey, fit } = stale ? await moveRow(move.id) : move.row
  return {
    pairs: plates.map((p, i) => {
      const { source, target } = survey!.pairs[i]
      const locked = fit?.pairs[i]
      const leg = progress!.legs.findLast((l) => l.transfer.pair === i)?.transfer ?? null
      return {
        index: i,
        volume: move.pairs[i].volume ?? null,
        ownIdentity: hasOwnIdentity(move) ? randomUUID() : null,
        besideSource: oldDriveStays(move),
        source: p.source,
        target: p.target ?? null,
        sourceSurvey: source,
        targetSurvey: target,
        /** What a virtual disk that is still to be made holds at most, in its format. */
        diskLimit: (target ? undefined : diskLimitOf(move.row.route)) ?? null,
        locked: locked ? { wish: locked.wish, layout: locked.layout, at: clockTime(locked.at) } : null,
        earlier: (fit?.earlier ?? [])
          .filter((e) => e.pair === i)
          .map((e) => ({ at: clockTime(e.at), headline: e.headline, wish: e.wish, layout: e.layout })),
        leg,
      }
    }),
    candidates: await fitCandidates(move),
    roomMade: roomIsMade(move.id),
    copied: copies.some((c) => ['done', 'running', 'paused'].includes(c.status)),
    /** Said when a drive is another than when it was read. */
    stale: stale ?? null,
    /** Why this version goes no further than this with the move. */
    obstacle: obstacle ?? null,
  }
}
