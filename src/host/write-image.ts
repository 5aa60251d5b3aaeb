import { createHash, randomBytes } from 'node:crypto'
import { readFile, rename, rm, stat, unlink } from 'node:fs/promises'
import path from 'node:path'
import { type ImageRecord, readImageRecord, recordedPieces, recordName } from '@/core/copy/image-record'
import { KEPT_BYTES } from '@/core/copy/piece-digests'
import type { CopyPlan } from '@/core/copy/plan'
import { withTables } from '@/core/copy/whole'
import { type CopyOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import { CoreError } from '@/core/errors'
import { type TargetKind, TARGETS, type TargetOptions } from '@/core/image'
import { unfinishedMarker } from '@/core/survey/marker'
import { hostError, NoFile } from './errors'
import { isThere, publish } from './files'
import { HostStore } from './host-store'
import { openJournal, type OpenJournal } from './journal-file'
import { packGrain } from './packed'
import { BLAKE3, blake3 } from './strong-digest'
import { syncFolderOf } from './sync-folder'
import { resolveTarget } from './target-name'
import { writeWhole } from './whole-file'

export interface WriteImageOptions extends Pick<
  CopyOptions,
  'verify' | 'onStep' | 'checkpoint' | 'rescue' | 'recheck' | 'beforeTables' | 'onRewrite'
> {
  readonly to: TargetKind
  readonly note: string
  /** Digest of all that decides what is written. */
  readonly work: string
  /** Milliseconds since 1970, for formats that keep when they were made. */
  readonly time: number
  /** What has the name may be there, and is until the new image is whole. */
  readonly overwrite?: boolean
  /** A file in which it keeps what is sure; without one, what was begun is removed when it does not end. */
  readonly journal?: string
  /** Takes up what the journal has of an earlier run. */
  readonly resume?: boolean
  /** What is told beside the image of what it was made of; without it no record is kept. */
  readonly record?: MadeOf
}

/** What the record of an image tells of where it came from. */
export type MadeOf = Pick<ImageRecord, 'how' | 'source' | 'survey' | 'layout' | 'read' | 'volumes' | 'leaveOut'>

export interface WrittenImage extends CopyOutcome {
  /** Length of the file, and what of it the host stores. */
  readonly fileBytes: number
  readonly hostBytes: number
}

/** How far the writing of an image is: both passes together. */
export interface Progress {
  readonly doneBytes: number
  /** 0 where it is not known. */
  readonly totalBytes: number
}

/** Tells the progress of a copy of so many bytes that is read back. */
export function stepsOf(totalBytes: number, onProgress?: (progress: Progress) => void): CopyOptions['onStep'] {
  let doneBytes = 0
  return async ({ phase, bytes }) => {
    if (phase !== 'copy' && phase !== 'rescue' && phase !== 'check') return
    doneBytes += bytes
    onProgress?.({ doneBytes: Math.min(doneBytes, 2 * totalBytes), totalBytes: 2 * totalBytes })
  }
}

/** The name of an image until it is whole, where it is kept to be gone on with. */
export const unfinishedName = (file: string) => `${file}.unfinished`

/**
 * Writes what a plan gives as an image of any format. It has its name only when it is whole: until then it has another
 * and carries the mark of an unfinished copy. Without a journal what was begun is removed when it does not end; with one
 * it stays, and can be gone on with. Rejects with NoFile when the name is taken, with CoreError as runCopy does.
 */
export async function writeImage(plan: CopyPlan, file: string, options: WriteImageOptions): Promise<WrittenImage> {
  const { journal, resume = false, overwrite = false } = options
  const output = await resolveTarget(file)
  if (!overwrite && !resume && (await isThere(output)))
    throw new NoFile(`A file of that name is there already: ${path.basename(output)}.`)
  if (journal) return withJournal(plan, output, journal, options)
  const partial = path.join(path.dirname(output), `.${path.basename(output)}.${randomBytes(4).toString('hex')}.partial`)
  try {
    const { outcome, written } = await run(plan, await HostStore.create(partial), output, options)
    await keepRecord(written, output, outcome, options)
    await giveName(partial, output, overwrite)
    return { ...outcome, ...(await lengthsOf(output)) }
  } catch (error) {
    await unlink(partial).catch(() => undefined)
    throw hostError(error, path.basename(output))
  }
}

async function withJournal(
  plan: CopyPlan,
  output: string,
  journal: string,
  options: WriteImageOptions,
): Promise<WrittenImage> {
  const { resume = false, overwrite = false } = options
  const unfinished = unfinishedName(output)
  const kept = await openJournal(journal, { resume })
  try {
    if (!resume && (await isThere(unfinished)))
      throw new NoFile(
        `${path.basename(unfinished)} is there already: a copy that was cut off. Resume that one, or take another name.`,
      )
    if (resume && !overwrite && (await isThere(unfinished)) && (await isThere(output)))
      throw new NoFile(`A file of that name is there already: ${path.basename(output)}.`)
    // One that was cut off right at its end may have its name already.
    const named = resume && !(await isThere(unfinished)) && (await isThere(output))
    const at = named ? output : unfinished
    // One that was cut off before it was marked holds nothing.
    const begun = kept.state?.erased === true && (await isThere(at))
    if (!begun) await rm(unfinished, { force: true })
    const store = begun ? await HostStore.open(at) : await HostStore.create(unfinished)
    const { outcome, written } = await run(plan, store, output, options, { journal: kept, begun })
    await keepRecord(written, output, outcome, options)
    if (!named) await giveName(unfinished, output, overwrite)
    return { ...outcome, ...(await lengthsOf(output)) }
  } catch (error) {
    throw hostError(error, path.basename(output))
  } finally {
    await kept.close()
  }
}

async function run(
  plan: CopyPlan,
  store: HostStore,
  output: string,
  options: WriteImageOptions,
  { journal, begun = false }: { journal?: OpenJournal; begun?: boolean } = {},
): Promise<{ outcome: CopyOutcome; written: CopyPlan }> {
  const { to, time, note, work, verify, onStep, checkpoint, rescue, recheck, beforeTables, onRewrite } = options
  const job = journal?.state?.job ?? `file-${randomBytes(6).toString('hex')}`
  try {
    const { size, logicalSectorSize } = plan.expected
    const target = await TARGETS[to].make(store, {
      virtualBytes: size,
      sectorSize: logicalSectorSize,
      name: path.basename(output),
      time,
      guid: guidsOf(job),
      pack: packGrain,
      begun,
    } satisfies TargetOptions)
    const more = journal ? { journal, from: journal.state } : {}
    if (journal?.state && !begun) {
      // What is gone on with is told by its mark, also where it is made anew.
      const marker = unfinishedMarker(logicalSectorSize, { note, job })
      await (target.header ? target.header.mark(marker) : target.write(0, marker))
    }
    // An image that has its mark in front of its disk has its tables among the pieces.
    const written = target.header ? await withTables(plan) : plan
    const outcome = await runCopy(written, target, {
      digest: blake3,
      note,
      job,
      work,
      verify,
      onStep,
      checkpoint,
      rescue,
      recheck,
      beforeTables,
      onRewrite,
      ...more,
    })
    return { outcome, written }
  } finally {
    await store.close()
  }
}

/** The GUIDs of an image, which are the same when it is gone on with. */
function guidsOf(job: string): () => string {
  let count = 0
  return () => {
    const bytes = createHash('sha256').update(`${job} ${count++}`).digest().subarray(0, 16)
    // RFC 9562, section 5.8: version 8 is made in a way of one's own.
    bytes[6] = (bytes[6] & 0x0f) | 0x80
    bytes[8] = (bytes[8] & 0x3f) | 0x80
    return bytes.toString('hex').replace(/^(.{8})(.{4})(.{4})(.{4})/, '$1-$2-$3-$4-')
  }
}

/** Writes the record beside an image that is whole and has no name yet: with its name it has its proof. */
async function keepRecord(
  plan: CopyPlan,
  output: string,
  outcome: CopyOutcome,
  { to, time, record }: WriteImageOptions,
): Promise<void> {
  if (!record) {
    // One of an image that had this name before would speak of another.
    await rm(recordName(output), { force: true })
    return
  }
  const { size: virtualBytes, logicalSectorSize: sectorSize } = plan.expected
  const kept: ImageRecord = {
    format: 'imbarco image record',
    version: 1,
    image: { name: path.basename(output), format: to, virtualBytes, sectorSize },
    madeAt: new Date(time).toISOString(),
    ...record,
    leftOut: plan.partitions.flatMap((p) => [...p.leftOut]),
    lost: [...outcome.lost],
    verified: outcome.checkedBytes > 0,
    digest: { name: BLAKE3, bytes: KEPT_BYTES },
    ...(await recordedPieces(plan, outcome.pieceDigests, blake3)),
  }
  await writeWhole(recordName(output), `${JSON.stringify(kept)}\n`)
}

/** Larger than the record of any drive. */
const MOST_RECORD_BYTES = 256 * 1024 * 1024

/** The record beside an image; undefined where there is none. Rejects with CoreError for a file that is no such record. */
export async function recordOf(image: string): Promise<ImageRecord | undefined> {
  const file = recordName(image)
  const found = await stat(file).catch(() => undefined)
  if (!found?.isFile()) return undefined
  if (found.size > MOST_RECORD_BYTES) throw new CoreError('The record of this image is larger than one can be.')
  return readImageRecord(await readFile(file, 'utf8'))
}

async function giveName(from: string, to: string, overwrite: boolean): Promise<void> {
  await (overwrite ? rename(from, to) : publish(from, to))
  await syncFolderOf(to)
}

/** Length of a file, and what of it the host stores. */
export async function lengthsOf(file: string) {
  const { size, blocks } = await stat(file)
  return { fileBytes: size, hostBytes: blocks * 512 }
}
