import { existsSync } from 'node:fs'
import { rm, unlink } from 'node:fs/promises'
import path from 'node:path'
import type { Worker } from 'node:worker_threads'
import { USUAL_CHOICES } from '@/core/copy/choices'
import type { CopyProgress } from '@/core/copy/progress'
import type { CopyStatus, CopyView } from '@/core/copy/view'
import { database } from '../database'
import { copiesVersion, CopyRow } from '../database/models'
import { saveAtLast } from '../database/save-at-last'
import { inTransaction } from '../database/transaction'
import { isInTransaction } from '../database/transaction-context'
import { log } from '../ground/log'
import { journalsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { benchNow } from '../world/clock'
import { storeWithNote } from './logbook'

/** A copy whose worker is at work. */
export interface Running {
  /** Of the drive that is being copied, where several are copied together. */
  id: string
  readonly moveId: string
  /** The two drives it is between. */
  readonly drives: readonly string[]
  readonly worker: Worker
  status: CopyStatus
  progress: CopyProgress | null
  /** What it waits for before it goes on by itself, in a sentence. */
  waitsFor: string | null
  /** Bench time when it began or last went on, and what passed in the model since. */
  benchStart: number
  benchMilliseconds: number
  lastKept: number
}

/** The file with what is sure of a copy. */
export function journalOf(id: string): string {
  return path.join(journalsFolder(), `${id.replace(/[^\w-]/g, '_')}.journal`)
}

/** The file with what the snapshot of a copy keeps, while that runs. */
export const snapshotOf = (journal: string) => `${journal}.snapshot`

/** How a copy ended, as it is stored. */
export type CopyEnd = Partial<
  Pick<
    CopyRow,
    | 'status'
    | 'endedAt'
    | 'message'
    | 'summary'
    | 'samples'
    | 'throughputRatio'
    | 'progress'
    | 'resumable'
    | 'verifyFailed'
  >
>

/** Ends of copies that the disk has not taken yet, by copy. */
const unsavedEnds = () => singleton('unsaved-copy-ends', () => new Map<string, CopyEnd>())

/** Stores how a copy ended with what belongs to it, as soon as the disk takes it; told from now on in any case. */
export async function saveCopyEnd(
  id: string,
  end: CopyEnd,
  alongside: () => Promise<void> = async () => {},
): Promise<void> {
  unsavedEnds().set(id, end)
  await saveAtLast(async () => {
    await inTransaction(async () => {
      await CopyRow.update(end, { where: { id } })
      await alongside()
    })
    unsavedEnds().delete(id)
  })
}

/** Stores that a copy of a leg begins. */
export async function beginCopy(
  of: Pick<CopyRow, 'id' | 'moveId' | 'leg' | 'linkKey' | 'startedAt' | 'choices'>,
): Promise<void> {
  await CopyRow.create({
    ...of,
    throughputRatio: null,
    status: 'running',
    endedAt: null,
    message: null,
    progress: null,
    summary: null,
    resumable: false,
    verifyFailed: false,
  })
}

/** Running copies by their move. */
export const running = () => singleton('running-copies', () => new Map<string, Running>())

/** The newest copy of a move, or of one of its legs, with the progress of this moment when it runs. */
export async function latestCopy(moveId: string, leg?: number): Promise<CopyView | undefined> {
  const copies = await copiesOf(moveId)
  const copy = leg === undefined ? copies[0] : copies.find((c) => c.leg === leg)
  if (!copy) return undefined
  const live = running().get(moveId)
  if (live?.id === copy.id) {
    const { waitsFor, progress } = live
    return { ...copy, status: waitsFor === null ? live.status : 'paused', progress, waitsFor }
  }
  const end = unsavedEnds().get(copy.id)
  return end ? { ...copy, ...end } : copy
}

interface CopiesRead {
  version: number
  /** Of each move that has any, the newest first. */
  byMove: Promise<ReadonlyMap<string, readonly CopyView[]>>
}

const copiesRead = () =>
  singleton('copies-read', (): CopiesRead => ({ version: NaN, byMove: Promise.resolve(new Map()) }))

/** All copies of a move, the newest first, as they are stored. Most of many moves have none; they are read together, once for each state. */
async function copiesOf(moveId: string): Promise<readonly CopyView[]> {
  await recover()
  for (;;) {
    const version = copiesVersion()
    const read = copiesRead()
    if (read.version !== version) {
      read.version = version
      read.byMove = readCopies()
      read.byMove.catch(() => (read.version = NaN))
    }
    const byMove = await read.byMove
    // Of a copy that ended meanwhile memory tells nothing any more, and what was read does not yet.
    if (isInTransaction() || copiesVersion() === version) return byMove.get(moveId) ?? []
  }
}

async function readCopies(): Promise<Map<string, CopyView[]>> {
  const rows = await CopyRow.findAll({
    // Only Proof needs them, and they are many.
    attributes: { exclude: ['samples'] },
    order: [
      ['startedAt', 'DESC'],
      ['id', 'DESC'],
    ],
  })
  const byMove = new Map<string, CopyView[]>()
  for (const row of rows) {
    try {
      byMove.set(row.moveId, [...(byMove.get(row.moveId) ?? []), viewOf(row)])
    } catch (error) {
      // One whose stored state does not have its form keeps nobody from the others.
      log.error(error)
    }
  }
  return byMove
}

function viewOf(row: CopyRow): CopyView {
  const { id, leg, status, startedAt, endedAt, message, progress, summary, resumable, verifyFailed } = row
  const choices = row.choices ?? USUAL_CHOICES
  return {
    ...{ id, leg, status, startedAt, endedAt, message, progress, summary, choices, resumable, verifyFailed },
    waitsFor: null,
  }
}

/** Copies that the last server left running were cut off with it; said once, when the database is opened. */
export function recover(): Promise<void> {
  return singleton('copy-recovery', async () => {
    await database()
    const at = Math.round(await benchNow())
    for (const status of ['running', 'paused'] as const) {
      for (const row of await CopyRow.findAll({ where: { status } })) {
        if (running().has(row.moveId)) continue
        await rm(snapshotOf(journalOf(row.id)), { force: true })
        // Only another pass over what it had lost was cut off; the copy itself was whole before.
        if (row.summary) {
          await CopyRow.update({ status: 'done' }, { where: { id: row.id } })
          continue
        }
        const resumable = existsSync(/* turbopackIgnore: true */ journalOf(row.id))
        const rest = resumable ? 'What was sure by then need not be copied again.' : 'Start the copy over.'
        const message = `The server stopped in the middle of this copy. The target is marked as unfinished and nothing starts from it; the source is untouched. ${rest}`
        const end = { status: 'interrupted', endedAt: at, message, resumable } as const
        const line = { text: 'copy cut off: the server stopped', tone: 'bad' } as const
        await storeWithNote(row.moveId, () => CopyRow.update(end, { where: { id: row.id } }), line)
        if (!resumable) await letGoOfSameMoment(row)
      }
    }
  })
}

/** Names a copy by its leg and when it began, or when the ones that it was begun together with did. */
export const copyId = (moveId: string, leg: number, begunAt: number) => `${moveId}-${leg}-${begunAt}`

const NOT_OF_ONE_MOMENT =
  'Another drive of the same moment was not copied to its end, so this one is copied anew with it.'

/** Copies that were begun together with one that did not come to its end: the next one is of another moment. */
export async function letGoOfSameMoment({ id, moveId }: Pick<CopyRow, 'id' | 'moveId'>): Promise<void> {
  const begunAt = Number(id.split('-').at(-1))
  for (const row of await CopyRow.findAll({ where: { moveId, status: 'done' }, attributes: ['id', 'leg'] }))
    if (row.id !== id && row.id === copyId(moveId, row.leg, begunAt))
      await saveCopyEnd(row.id, { status: 'failed', message: NOT_OF_ONE_MOMENT, resumable: false })
}

/** What a finished or running copy rests on is not changed any more. */
export async function refuseAfterCopy(moveId: string): Promise<void> {
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') throw new Refusal('copy-running')
  if (await CopyRow.findOne({ where: { moveId, status: 'done' }, attributes: ['id'] })) throw new Refusal('copy-done')
}

/** What an earlier copy of a move was cut off at counts no more once another one starts. */
export async function forgetCutOff(moveId: string): Promise<void> {
  for (const { id } of await CopyRow.findAll({ where: { moveId, resumable: true }, attributes: ['id'] })) {
    await unlink(journalOf(id)).catch(() => undefined)
    await CopyRow.update({ resumable: false }, { where: { id } })
  }
}
