import { type FileHandle, open, rm } from 'node:fs/promises'
import path from 'node:path'
import { CoreError } from '@/core/errors'
import { keptPatch } from '@/core/repair/apply'
import { type ShrinkJournal, type ShrinkRecord, ShrinkRecordSchema } from '@/core/repair/shrink-in-place'
import { readFileBytes, writeFileBytes } from './file-bytes'
import { syncFolderOf } from './sync-folder'
import { jsonIn, writeWhole } from './whole-file'

/** The journal of a volume that is made smaller: a record in one file, what was written over in another beside it. */
export class ShrinkJournalFile implements ShrinkJournal {
  private length = 0

  private constructor(
    private readonly file: string,
    private readonly kept: FileHandle,
  ) {}

  /** Begins a new one. What an earlier one kept is given up. */
  static async begin(file: string): Promise<ShrinkJournalFile> {
    return new ShrinkJournalFile(file, await open(keptName(file), 'w+'))
  }

  /** Opens one that is there; undefined where there is none. Rejects with CoreError where it does not hold together. */
  static async open(file: string): Promise<{ journal: ShrinkJournalFile; record: ShrinkRecord } | undefined> {
    const found = await jsonIn(file)
    if (!found) return undefined
    const parsed = ShrinkRecordSchema.safeParse(found.value)
    const kept = parsed.success ? await open(keptName(file), 'r').catch(() => undefined) : undefined
    if (!parsed.success || !kept)
      throw new CoreError(`${path.basename(file)} is not the journal of a volume that is made smaller, or was changed.`)
    return { journal: new ShrinkJournalFile(file, kept), record: parsed.data }
  }

  keep(record: ShrinkRecord): Promise<void> {
    return writeWhole(this.file, JSON.stringify({ ...record, patches: record.patches.map(keptPatch) }))
  }

  async putAside(bytes: Uint8Array): Promise<number> {
    const at = this.length
    await writeFileBytes(this.kept, at, bytes)
    this.length += bytes.length
    return at
  }

  async flushAside(): Promise<void> {
    await this.kept.sync()
    await syncFolderOf(keptName(this.file))
  }

  async readAside(at: number, into: Uint8Array): Promise<void> {
    if ((await readFileBytes(this.kept, at, into)) < into.length)
      throw new CoreError(`${path.basename(keptName(this.file))} is shorter than what its journal says that it keeps.`)
  }

  close(): Promise<void> {
    return this.kept.close()
  }

  /** Takes both files away: there is nothing to take back any more. */
  async forget(): Promise<void> {
    await this.close()
    for (const name of [this.file, keptName(this.file)]) await rm(name, { force: true })
  }
}

const keptName = (file: string) => `${file}.kept`
