import { whyNotProved } from '@/core/intake/possible'
import { headState } from '../head'
import { logbook } from '../logbook'
import { clockTime } from '../words'
import { planTrouble } from '../route/trouble'
import { loadMove, type Move, obstacleOf, plateOf } from '.'
import { type Progress, progressOf } from './legs'
import { moveRail } from './rail'

/** Why the start of what was copied cannot be followed, with what is known of it all the same. */
function notProved({ goal, row }: Move, progress: Progress | undefined): string | undefined {
  if (!goal || !progress || progress.copied === 0) return undefined
  const why = whyNotProved(goal.firmware, row.survey?.pairs[0].source)
  const equal = progress.copies.slice(0, progress.copied).every((c) => c?.summary && c.summary.checkedBytes > 0)
  return why && `${why} ${equal ? 'What was copied was read back and is equal.' : 'What was copied was not read back.'}`
}

/** What every station's page needs of its move. */
export async function movePage(id: string) {
  const move = await loadMove(id)
  const progress = await progressOf(move.row)
  const { brief, bench, computer, pairs } = move
  const lines = (await logbook(id, 14)).map(({ id, at, tone, text }) => ({ id, tone, text, time: clockTime(at) }))
  return {
    move,
    progress,
    /** The newest copy of the leg that the move is at. */
    copy: progress?.copies[progress.leg],
    head: await headState(),
    title: `${brief.name}, ${brief.customer}`,
    rail: moveRail(move.row, progress),
    obstacle: obstacleOf(move),
    /** Why the start of what was copied cannot be followed by this version. */
    notProved: notProved(move, progress),
    trouble: await planTrouble(move, progress),
    plates: pairs.map((p) => ({
      source: plateOf(p.source, bench),
      target: p.target ? plateOf(p.target, bench) : undefined,
    })),
    computer,
    lines,
  }
}

export type MovePage = Awaited<ReturnType<typeof movePage>>
