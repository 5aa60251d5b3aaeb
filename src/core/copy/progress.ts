import * as z from 'zod'
import { CopyChoicesSchema, USUAL_CHOICES } from './choices'

/** How fast a copy was at a bench second since its start. */
export const SpeedSampleSchema = z.object({
  second: z.number(),
  bytesPerSecond: z.number(),
  phase: z.enum(['copy', 'check']),
})

/** Something that happened on the way, at a bench second since the copy's start. */
export const CopyEventSchema = z.object({
  second: z.number(),
  kind: z.enum(['paused', 'cut', 'trouble', 'rest', 'rewritten', 'let-go', 'read-back', 'away']),
  text: z.string(),
})
export type CopyEvent = z.infer<typeof CopyEventSchema>

/** How far a copy is. Seconds are bench seconds since its start. */
export const CopyProgressSchema = z.object({
  phase: z.enum(['erase', 'copy', 'rescue', 'check', 'tables']),
  copiedBytes: z.number(),
  checkedBytes: z.number(),
  totalBytes: z.number(),
  /** Byte of the source where it is now. */
  sourceOffset: z.number(),
  partition: z.string(),
  seconds: z.number(),
  copySeconds: z.number(),
  bytesPerSecond: z.number(),
  /** Of reading back while it is read back, of copying else. */
  meanBytesPerSecond: z.number(),
  secondsLeft: z.number(),
  samples: z.array(SpeedSampleSchema),
  events: z.array(CopyEventSchema).default([]),
  /** False for a copy that is not read back. */
  verify: z.boolean().default(true),
  /** Seconds spent on each partition, by number. */
  partSeconds: z.record(z.string(), z.number()).default({}),
})
export type CopyProgress = z.infer<typeof CopyProgressSchema>

/** How much of a copy is done, 0 to 1; reading back counts as much as copying. */
export function copyShare({
  copiedBytes,
  checkedBytes,
  totalBytes,
  verify,
}: Pick<CopyProgress, 'copiedBytes' | 'checkedBytes' | 'totalBytes' | 'verify'>): number {
  return (copiedBytes + checkedBytes) / ((verify ? 2 : 1) * Math.max(1, totalBytes))
}

/** A run of sectors that the source did not give; zeros stand in its place. */
export const LostSchema = z.object({
  /** The partition's number on the target. */
  partition: z.number(),
  /** First sector on the source and on the target, each counted in its own sectors. */
  sourceLba: z.number(),
  targetLba: z.number(),
  /** Sectors of the source. */
  sectors: z.number(),
  /** Paths on that partition whose content is affected; empty where none is, or where files are not read. */
  files: z.array(z.string()),
  /** False where it was given up, for time or heat, before every sector was tried. */
  tried: z.boolean().default(true),
})
export type Lost = z.infer<typeof LostSchema>

export const CopySummarySchema = z.object({
  copiedBytes: z.number(),
  writtenBytes: z.number(),
  /** 0 when nothing was read back, as was chosen. */
  checkedBytes: z.number(),
  /** Over the digests of all pieces; empty when nothing was read back. */
  digest: z.string(),
  digestName: z.string().default('SHA-256'),
  /** Pieces that read back differently at first, and were written a second time. */
  rewritten: z.number().default(0),
  /** How often it was cut off and went on. */
  resumed: z.number().default(0),
  bufferBytes: z.number(),
  /** Of the target with its tables in place; a further leg reads from it only while it is the same. */
  targetFingerprint: z.string().default(''),
  copySeconds: z.number(),
  checkSeconds: z.number(),
  lost: z.array(LostSchema).default([]),
  partitions: z.array(
    z.object({
      number: z.number(),
      title: z.string(),
      bytes: z.number(),
      mode: z.enum(['used', 'every']),
      skippedBytes: z.number().default(0),
      /** Why every sector of it was taken although its kind has a map of used blocks. */
      everySector: z.string().optional(),
      /** Whether its map of used blocks was held against its files, and what was found to be missing in it. */
      map: z.enum(['checked', 'unchecked', 'missed']).optional(),
      mapFinding: z.string().optional(),
      leftOut: z.array(z.object({ path: z.string(), bytes: z.number() })).default([]),
      seconds: z.number().default(0),
    }),
  ),
  events: z.array(CopyEventSchema).default([]),
  choices: CopyChoicesSchema.default(USUAL_CHOICES),
  /** Digest of all that decided what it wrote. */
  work: z.string().default(''),
  /** Of a system that ran while it was copied. */
  live: z
    .object({
      /** The copy is of the moment it started. */
      oneMoment: z.boolean(),
      /** What was written on the source meanwhile: bytes, and the files they belong to. */
      changedBytes: z.number(),
      files: z.array(z.object({ partition: z.number(), path: z.string() })),
      /** What the snapshot kept aside. */
      keptBytes: z.number(),
    })
    .nullable()
    .default(null),
  /** Further drives written in the same reading; `why`: the reason one was let go. */
  further: z.array(z.object({ id: z.string(), name: z.string(), why: z.string().nullable() })).default([]),
})
export type CopySummary = z.infer<typeof CopySummarySchema>

/** What was lost, in a few words: sectors and the files that they touch. */
export function lostWords(lost: readonly Lost[]): string {
  const sectors = lost.reduce((sum, run) => sum + run.sectors, 0)
  const files = new Set(lost.flatMap((run) => run.files.map((file) => `${run.partition} ${file}`))).size
  const where = files === 0 ? 'no known file' : `${files} ${files === 1 ? 'file' : 'files'}`
  return `${sectors} ${sectors === 1 ? 'sector' : 'sectors'} could not be read, in ${where}`
}
