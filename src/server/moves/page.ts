import { calendarDay, clockTime } from '../ground/words'
import { loadMove, obstacleOf, plateOf } from '.'
import { shownJob } from './jobs'
import { progressOf } from './legs'
import { logbook } from './logbook'
import { planProblem } from './plan-problem'
import { moveRail, railRow } from './rail'

/** What every station's page needs of its move. */
export async function movePage(id: string) {
  const move = await loadMove(id)
  const progress = await progressOf(move.row)
  const { brief, bench, computer, pairs } = move
  const { standing } = move.row
  const lines = (await logbook(id, 14)).map(({ id, at, tone, text }) => ({ id, tone, text, time: clockTime(at) }))
  return {
    move,
    progress,
    /** The newest copy of the leg that the move is at. */
    copy: progress?.copies[progress.leg],
    title: `${brief.name}, ${brief.customer}`,
    name: brief.name,
    customer: brief.customer,
    standing: standing && { kind: standing.kind, day: calendarDay(standing.at), why: standing.why },
    rail: moveRail(railRow(move.row), progress),
    obstacle: obstacleOf(move),
    trouble: await planProblem(move, progress),
    plates: pairs.map((p) => ({
      source: plateOf(p.source, bench),
      target: p.target ? plateOf(p.target, bench) : undefined,
    })),
    computer,
    /** What runs, or the last that did not come to its end. */
    job: await shownJob(id),
    lines,
  }
}

export type MovePage = Awaited<ReturnType<typeof movePage>>
