import { createHash, randomBytes } from 'node:crypto'
import path from 'node:path'
import { type ImageRecord, readImageRecord, recordedPieces, recordName } from '@/core/copy/image-record'
import { KEPT_BYTES } from '@/core/copy/piece-digests'
import type { CopyPlan } from '@/core/copy/plan'
import { withTables } from '@/core/copy/whole'
import { type CopyOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import { type TargetKind, TARGETS, type TargetOptions } from '@/core/image'
import type { FolderFile, ImageFolder } from '@/core/image/folder'
import { unfinishedMarker } from '@/core/survey/marker'
import { hostError, NoFile } from './errors'
import { HostFolder } from './host-folder'
import { openJournal, type OpenJournal } from './journal-file'
import { packGrain } from './packed'
import { BLAKE3, blake3 } from './strong-digest'
import { resolveTarget } from './target-name'

export interface WriteImageOptions extends Pick<
  CopyOptions,
  'note' | 'job' | 'work' | 'verify' | 'onStep' | 'checkpoint' | 'rescue' | 'recheck' | 'beforeTables' | 'onRewrite'
> {
  readonly to: TargetKind
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
  const output = await resolveTarget(file)
  return writeImageInto(new HostFolder(path.dirname(output)), path.basename(output), plan, options)
}

/** The same in any folder. */
export async function writeImageInto(
  folder: ImageFolder,
  name: string,
  plan: CopyPlan,
  options: WriteImageOptions,
): Promise<WrittenImage> {
  const { journal, resume = false, overwrite = false } = options
  if (!overwrite && !resume && (await folder.has(name)))
    throw new NoFile(`A file of that name is there already: ${name}.`)
  if (journal) return withJournal(folder, name, plan, { ...options, journal })
  const partial = `.${name}.${randomBytes(4).toString('hex')}.partial`
  try {
    const store = await folder.create(partial, () => mostBytesOf(options.to, plan))
    const { outcome, written } = await run(plan, store, name, options)
    await keepRecord(folder, name, written, outcome, options)
    await folder.rename(partial, name, { replacing: overwrite })
    return { ...outcome, ...(await folder.lengths(name)) }
  } catch (error) {
    await folder.remove(partial).catch(() => undefined)
    throw hostError(error, name)
  }
}

async function withJournal(
  folder: ImageFolder,
  name: string,
  plan: CopyPlan,
  options: WriteImageOptions & { readonly journal: string },
): Promise<WrittenImage> {
  const { journal, resume = false, overwrite = false } = options
  const unfinished = unfinishedName(name)
  const kept = await openJournal(journal, { resume })
  try {
    if (!resume && (await folder.has(unfinished)))
      throw new NoFile(
        `${unfinished} is there already: a copy that was cut off. Resume that one, or take another name.`,
      )
    if (resume && !overwrite && (await folder.has(unfinished)) && (await folder.has(name)))
      throw new NoFile(`A file of that name is there already: ${name}.`)
    // One that was cut off right at its end may have its name already.
    const named = resume && !(await folder.has(unfinished)) && (await folder.has(name))
    const at = named ? name : unfinished
    // One that was cut off before it was marked holds nothing.
    const begun = kept.state?.erased === true && (await folder.has(at))
    if (!begun) await folder.remove(unfinished)
    const store = begun ? await folder.open(at) : await folder.create(unfinished, () => mostBytesOf(options.to, plan))
    const { outcome, written } = await run(plan, store, name, options, { journal: kept, begun })
    await keepRecord(folder, name, written, outcome, options)
    if (!named) await folder.rename(unfinished, name, { replacing: overwrite })
    return { ...outcome, ...(await folder.lengths(name)) }
  } catch (error) {
    throw hostError(error, name)
  } finally {
    await kept.close()
  }
}

/** What an image of a plan takes at most, in bytes. */
async function mostBytesOf(to: TargetKind, plan: CopyPlan): Promise<number> {
  const { size } = plan.expected
  const block = TARGETS[to].blockBytes?.(size)
  if (block === undefined) return size + TABLE_BYTES
  let blocks = 0
  let last = -1
  for await (const { offset, length, zero } of plan.pieces()) {
    if (zero || length === 0) continue
    const first = Math.max(last + 1, Math.floor(offset / block))
    const end = Math.floor((offset + length - 1) / block)
    blocks += Math.max(0, end - first + 1)
    last = Math.max(last, end)
  }
  // Blocks of the tables, and of what is written beside them.
  return (blocks + 2 * plan.tables.length + 4) * block + Math.ceil(size / 1024) + TABLE_BYTES
}

/** More than what a format needs besides its blocks, and besides a thousandth of its disk. */
const TABLE_BYTES = 16 * 1024 * 1024

async function run(
  plan: CopyPlan,
  store: FolderFile,
  name: string,
  options: WriteImageOptions,
  { journal, begun = false }: { journal?: OpenJournal; begun?: boolean } = {},
): Promise<{ outcome: CopyOutcome; written: CopyPlan }> {
  const { to, time, note, work, verify, onStep, checkpoint, rescue, recheck, beforeTables, onRewrite } = options
  const copying = { note, work, verify, onStep, checkpoint, rescue, recheck, beforeTables, onRewrite }
  const job = journal?.state?.job ?? options.job ?? `file-${randomBytes(6).toString('hex')}`
  try {
    const { size, logicalSectorSize } = plan.expected
    const target = await TARGETS[to].make(store, {
      virtualBytes: size,
      sectorSize: logicalSectorSize,
      name,
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
    const outcome = await runCopy(written, target, { digest: blake3, ...copying, job, ...more })
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
  folder: ImageFolder,
  name: string,
  plan: CopyPlan,
  outcome: CopyOutcome,
  { to, time, record }: WriteImageOptions,
): Promise<void> {
  // One of an image that had this name before would speak of another.
  if (!record) return folder.remove(recordName(name))
  const { size: virtualBytes, logicalSectorSize: sectorSize } = plan.expected
  const kept: ImageRecord = {
    format: 'imbarco image record',
    version: 1,
    image: { name, format: to, virtualBytes, sectorSize },
    madeAt: new Date(time).toISOString(),
    ...record,
    leftOut: plan.partitions.flatMap((p) => [...p.leftOut]),
    lost: [...outcome.lost],
    verified: outcome.checkedBytes > 0,
    digest: { name: BLAKE3, bytes: KEPT_BYTES },
    ...(await recordedPieces(plan, outcome.pieceDigests, blake3)),
  }
  await folder.putText(recordName(name), `${JSON.stringify(kept)}\n`)
}

/** Larger than the record of any drive. */
const MOST_RECORD_BYTES = 256 * 1024 * 1024

/** The record beside an image; undefined where there is none. Rejects with CoreError for a file that is no such record. */
export async function recordOf(image: string): Promise<ImageRecord | undefined> {
  return recordIn(new HostFolder(path.dirname(image)), path.basename(image))
}

/** The same of an image in any folder. */
export async function recordIn(folder: ImageFolder, image: string): Promise<ImageRecord | undefined> {
  const text = await folder.text(recordName(image), MOST_RECORD_BYTES)
  return text === undefined ? undefined : readImageRecord(text)
}

/** The name of an image that is still being made, or whose making was cut off. */
export const isUnfinishedName = (name: string) => /^\..+\.[0-9a-f]{8}\.partial$|\.unfinished$/.test(name)
