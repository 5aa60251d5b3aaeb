import { z } from 'zod'

/** How fast a copy was at a bench second since its start. */
export const SpeedSampleSchema = z.object({
  second: z.number(),
  bytesPerSecond: z.number(),
  phase: z.enum(['copy', 'check']),
})

/** How far a copy is. Seconds are bench seconds since its start. */
export const CopyProgressSchema = z.object({
  phase: z.enum(['erase', 'copy', 'check', 'tables']),
  copiedBytes: z.number(),
  checkedBytes: z.number(),
  totalBytes: z.number(),
  /** Byte of the source where it is now. */
  sourceOffset: z.number(),
  partition: z.string(),
  seconds: z.number(),
  copySeconds: z.number(),
  bytesPerSecond: z.number(),
  meanBytesPerSecond: z.number(),
  secondsLeft: z.number(),
  samples: z.array(SpeedSampleSchema),
})
export type CopyProgress = z.infer<typeof CopyProgressSchema>

export const CopySummarySchema = z.object({
  copiedBytes: z.number(),
  writtenBytes: z.number(),
  checkedBytes: z.number(),
  digest: z.string(),
  bufferBytes: z.number(),
  /** Of the target with its tables in place; a further leg reads from it only while it is the same. */
  targetFingerprint: z.string().default(''),
  copySeconds: z.number(),
  checkSeconds: z.number(),
  partitions: z.array(
    z.object({ number: z.number(), title: z.string(), bytes: z.number(), mode: z.enum(['used', 'every']) }),
  ),
})
export type CopySummary = z.infer<typeof CopySummarySchema>
