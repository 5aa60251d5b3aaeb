import { constants } from 'node:fs'
import { type FileHandle, open } from 'node:fs/promises'
import path from 'node:path'
import { type CopyJournal, type CopyState, journalLine, journalRecords, stateOf } from '@/core/copy/journal'
import { CoreError } from '@/core/errors'
import { hostError, NoFile } from './errors'

/** More than the journal of the largest drive takes. */
const MOST_BYTES = 512 * 1024 * 1024

/** How the first line of a journal begins, also of one that was cut off in it. */
const BEGINS = /^[0-9a-f]{8} \{/

/** A copy's journal in a file, opened for going on or for beginning. */
export interface OpenJournal extends CopyJournal {
  /** Where the copy is; undefined for one that has not begun. */
  readonly state: CopyState | undefined
  close(): Promise<void>
}

/**
 * Opens a journal; `resume` takes up what is there, else the file is begun anew. What follows the last whole line is
 * cut off. Rejects with CoreError when it does not hold together or there is nothing to take up, with NoFile when the
 * file is something else.
 */
export async function openJournal(file: string, { resume }: { resume: boolean }): Promise<OpenJournal> {
  let handle: FileHandle
  try {
    handle = await open(file, resume ? 'r+' : constants.O_RDWR | constants.O_CREAT)
  } catch (error) {
    throw hostError(error, path.basename(file))
  }
  try {
    const { size } = await handle.stat()
    if (size > MOST_BYTES) throw new CoreError('The journal of this copy is larger than one can be.')
    const text = (await handle.readFile()).toString('utf8')
    const records = journalRecords(text)
    // A file that is something else is never emptied for a journal.
    if (!resume && size > 0 && !BEGINS.test(text))
      throw new NoFile(`${path.basename(file)} is there already and is not the journal of a copy, so it is kept.`)
    const state = resume ? stateOf(records) : undefined
    if (resume && !state) throw new CoreError('The journal of this copy holds nothing to go on from.')
    let end = resume ? records.reduce((sum, record) => sum + Buffer.byteLength(journalLine(record)), 0) : 0
    await handle.truncate(end)
    return {
      state,
      async append(record) {
        const line = Buffer.from(journalLine(record))
        try {
          await handle.write(line, 0, line.length, end)
          await handle.datasync()
        } catch (error) {
          throw hostError(error, path.basename(file))
        }
        end += line.length
      },
      close: () => handle.close(),
    }
  } catch (error) {
    await handle.close()
    throw error
  }
}
