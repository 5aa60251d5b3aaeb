import { randomBytes } from 'node:crypto'
import { rename, stat, unlink } from 'node:fs/promises'
import path from 'node:path'
import type { CopyPlan } from '@/core/copy/plan'
import { type CopyOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import { publish } from './files'
import { NoFile } from './errors'
import { openJournal, type OpenJournal } from './journal-file'
import { RawFile } from './raw-file'
import { syncFolderOf } from './sync-folder'
import { resolveTarget } from './target-name'
import { blake3 } from './strong-digest'

export interface CopyToFileOptions extends Pick<
  CopyOptions,
  'verify' | 'onStep' | 'checkpoint' | 'rescue' | 'recheck' | 'beforeTables'
> {
  readonly note: string
  /** Digest of all that decides what is written. */
  readonly work: string
  readonly overwrite?: boolean
  /** A file in which it keeps what is sure; without one, what was begun is removed when it does not end. */
  readonly journal?: string
  /** Takes up what the journal has of an earlier run. */
  readonly resume?: boolean
}

/**
 * Copies onto a raw image. Without a journal the image has its name only when it is whole; with one it has it from the
 * start, carries the mark of an unfinished copy until it is whole, and can be gone on with. Rejects with NoFile when
 * the name is taken, with CoreError as runCopy does.
 */
export async function copyToFile(plan: CopyPlan, file: string, options: CopyToFileOptions): Promise<CopyOutcome> {
  const { journal, resume = false, overwrite = false } = options
  const { size, logicalSectorSize } = plan.expected
  const output = await resolveTarget(file)
  const there = await stat(output).then(
    () => true,
    () => false,
  )
  if (there && !overwrite && !resume)
    throw new NoFile(`A file of that name is there already: ${path.basename(output)}.`)
  if (!journal) {
    const partial = path.join(
      path.dirname(output),
      `.${path.basename(output)}.${randomBytes(4).toString('hex')}.partial`,
    )
    try {
      const target = await RawFile.create(partial, size, logicalSectorSize)
      const outcome = await run(plan, target, options, undefined)
      await (overwrite ? rename(partial, output) : publish(partial, output))
      await syncFolderOf(output)
      return outcome
    } catch (error) {
      await unlink(partial).catch(() => undefined)
      throw error
    }
  }
  const kept = await openJournal(journal, { resume })
  try {
    if (!resume && there) await unlink(output)
    const target =
      resume && there
        ? await RawFile.open(output, logicalSectorSize)
        : await RawFile.create(output, size, logicalSectorSize)
    return await run(plan, target, options, kept)
  } finally {
    await kept.close()
  }
}

async function run(
  plan: CopyPlan,
  target: RawFile,
  options: CopyToFileOptions,
  journal: OpenJournal | undefined,
): Promise<CopyOutcome> {
  try {
    const { note, work, verify, onStep, checkpoint, rescue, recheck, beforeTables } = options
    return await runCopy(plan, target, {
      digest: blake3,
      note,
      work,
      verify,
      onStep,
      checkpoint,
      rescue,
      recheck,
      beforeTables,
      ...(journal
        ? { journal, from: journal.state, job: journal.state?.job ?? `file-${randomBytes(6).toString('hex')}` }
        : {}),
    })
  } finally {
    await target.close()
  }
}
