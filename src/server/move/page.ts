import { latestCopy } from '../copy/current'
import { headState } from '../head'
import { logbook } from '../logbook'
import { clockTime } from '../words'
import { loadMove, plateOf } from '.'
import { moveRail } from './rail'

/** What every station's page needs of its move. */
export async function movePage(id: string) {
  const move = await loadMove(id)
  const copy = await latestCopy(id)
  const { brief, bench, computer } = move
  const lines = (await logbook(id, 14)).map(({ id, at, tone, text }) => ({ id, tone, text, time: clockTime(at) }))
  return {
    move,
    copy,
    head: await headState(),
    title: `${brief.name}, ${brief.customer}`,
    rail: moveRail(move.row, copy, bench),
    source: plateOf(move.source, bench),
    target: plateOf(move.target, bench),
    computer,
    lines,
  }
}

export type MovePage = Awaited<ReturnType<typeof movePage>>
