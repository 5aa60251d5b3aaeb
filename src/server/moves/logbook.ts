import { database } from '../database'
import { inTransaction } from '../database/transaction'
import { LogRow } from '../database/models'
import { benchNow, keepClock } from '../world/clock'

export interface LogEntry {
  readonly id: number
  readonly moveId: string
  readonly at: number
  readonly tone: 'plain' | 'good' | 'bad'
  readonly text: string
}

/** Writes a line into the logbook of a move, with bench time. */
export async function note(moveId: string, text: string, tone: LogEntry['tone'] = 'plain'): Promise<void> {
  await database()
  await LogRow.create({ id: null, moveId, at: Math.round(await benchNow()), tone, text })
  await keepClock()
}

/** What the logbook says of a change: in plain words, or with a tone. */
export type LogWords = string | { readonly text: string; readonly tone: LogEntry['tone'] }

/** Stores a change and its line in the logbook together. */
export async function storeWithNote(
  moveId: string,
  store: () => Promise<unknown>,
  line: LogWords | undefined,
): Promise<void> {
  if (line === undefined) return void (await store())
  const { text, tone } = typeof line === 'string' ? { text: line, tone: 'plain' as const } : line
  await inTransaction(async () => {
    await store()
    await note(moveId, text, tone)
  })
}

/** The newest lines, newest first; of one move or of all. */
export async function logbook(moveId: string | undefined, limit: number): Promise<LogEntry[]> {
  await database()
  const rows = await LogRow.findAll({ where: moveId ? { moveId } : {}, order: [['id', 'DESC']], limit })
  return rows.map(({ id, moveId, at, tone, text }) => ({ id: id!, moveId, at, tone, text }))
}
