import { constants } from 'node:fs'
import { type FileHandle, open, readFile } from 'node:fs/promises'
import path from 'node:path'
import { Mutex } from 'async-mutex'
import {
  type CopyJournal,
  type CopyState,
  journalLine,
  type JournalRecord,
  journalRecords,
  stateOf,
  type Sure,
} from '@/core/copy/journal'
import { CopyEnded } from '@/core/copy/run'
import { CoreError } from '@/core/errors'
import { hostError, NoFile } from './errors'
import { writeFileBytes } from './file-bytes'
import { syncFolderOf } from './sync-folder'

/** More than the journal of the largest drive takes. */
const MOST_BYTES = 512 * 1024 * 1024

/** How the first line of a journal begins, also of one that was cut off in it. */
const BEGINS = /^[0-9a-f]{8} \{[^\n]*$/

/** A copy's journal in a file, opened for going on or for beginning. */
export interface OpenJournal extends CopyJournal {
  /** Where the copy is; undefined for one that has not begun. */
  readonly state: CopyState | undefined
  close(): Promise<void>
}

/**
 * Opens a journal: with `resume` the one that is there, of a copy that was cut off, else a new one. What follows the
 * last whole line is cut off. Rejects with CoreError when it does not hold together or there is nothing to resume, with
 * NoFile when the file is something else, or would be a new one and has something in it: a journal is never overwritten.
 */
export async function openJournal(file: string, { resume }: { resume: boolean }): Promise<OpenJournal> {
  const name = path.basename(file)
  let handle: FileHandle
  try {
    handle = await open(file, resume ? 'r+' : constants.O_RDWR | constants.O_CREAT)
  } catch (error) {
    throw hostError(error, name)
  }
  try {
    const found = await handle.stat()
    if (!found.isFile()) throw new NoFile(`${name} is not a file.`)
    if (found.size > MOST_BYTES) throw new CoreError('The journal of this copy is larger than one can be.')
    const text = (await handle.readFile()).toString('utf8')
    const records = journalRecords(text)
    // A journal that was cut off in its first line holds nothing that could be lost.
    const empty = records.length === 0 && (text === '' || BEGINS.test(text))
    if (!resume && !empty) throw new NoFile(takenSentence(name, records))
    const state = resume ? stateOf(records) : undefined
    if (resume && !state) throw new CoreError('The journal of this copy holds nothing to go on from.')
    if (state?.ended) throw new CopyEnded()
    let end = records.reduce((sum, record) => sum + Buffer.byteLength(journalLine(record)), 0)
    await handle.truncate(end)
    await syncFolderOf(file)
    // Lines come from the copy and from targets that fail beside it: one after the other, and none after one that
    // was not stored, since the host tells of a lost line only once.
    const turn = new Mutex()
    let failure: { readonly error: unknown } | undefined
    return {
      state,
      append: (record) =>
        turn.runExclusive(async () => {
          if (failure) throw failure.error
          const line = Buffer.from(journalLine(record))
          try {
            await writeFileBytes(handle, end, line)
            await handle.datasync()
          } catch (error) {
            failure = { error: hostError(error, name) }
            throw failure.error
          }
          end += line.length
        }),
      close: () => handle.close(),
    }
  } catch (error) {
    await handle.close()
    throw error
  }
}

/** What a journal names as sure; nothing where it cannot be read. */
export async function sureIn(file: string): Promise<Sure | undefined> {
  try {
    const state = stateOf(journalRecords(await readFile(file, 'utf8')))
    return state && { copiedBytes: state.copiedBytes, checkedBytes: state.checkedBytes }
  } catch {
    return undefined
  }
}

function takenSentence(name: string, records: readonly JournalRecord[]): string {
  if (records.length === 0) return `${name} is there already and is not the journal of a copy, so it is kept.`
  return records.at(-1)!.did === 'end'
    ? `${name} is the journal of a copy that has ended, so it is kept. Take another name.`
    : `${name} is the journal of a copy that was cut off, so it is kept. Resume that copy, or take another name.`
}
