import * as z from 'zod'
import type { Comparison } from './compare'
import type { ImageKind, Packing } from '.'
import type { LostInImage } from './lost'
import type { Touched } from './touched'
import type { MapTaken } from './used'

// What is told of images and of the work on them, from server to page.

/** One file of the images folder. */
export interface ImageSummary {
  readonly name: string
  readonly fileBytes: number
  /** What the file takes on the host. */
  readonly hostBytes: number
  readonly packing: Packing | null
  /** Absent for a packed file, and for one that cannot be opened. */
  readonly opened: {
    readonly kind: ImageKind
    readonly format: string
    readonly virtualBytes: number
    readonly parent: string | null
    readonly scheme: string
    readonly usedBytes: number
    /** Titles of the partitions, with what is on them. */
    readonly contents: readonly string[]
    readonly damaged: boolean
    readonly cautions: number
  } | null
  /** Why it cannot be opened. */
  readonly sentence: string | null
  /** Names of the bench's drives that it stands for. */
  readonly onBench: readonly string[]
  /** A record of how it was made lies beside it, by which it can be proved. */
  readonly recorded: boolean
}

/** An image that is kept on a drive, in the root of one of its volumes. */
export interface ImageOnDrive {
  readonly partition: number
  readonly name: string
  readonly bytes: number
  /** A record of how it was made lies beside it. */
  readonly recorded: boolean
  /** It is not whole: it is being made, or its making was cut off. */
  readonly unfinished: boolean
}

/** A volume of a drive in which images can be kept. */
export interface ImageStoreChoice {
  readonly driveId: string
  readonly partition: number
  readonly name: string
  readonly freeBytes: number
}

/** What work on images came to. */
export type JobResult =
  | {
      readonly kind: 'written'
      readonly virtualBytes: number
      readonly fileBytes: number
      readonly hostBytes: number
      /** What did not read; zeros stand in its place. */
      readonly lost: LostInImage
      /** Volumes that were taken by their maps of used blocks. */
      readonly maps: readonly MapTaken[]
      /** All that was written was read back and is equal. */
      readonly verified: boolean
      /** What the host stored of the image before, where it was written anew in its place. */
      readonly hostBytesBefore?: number
      /** Files whose content was left out, and their bytes. */
      readonly leftOut?: { readonly files: number; readonly bytes: number }
      /** What else has to be known of it, in sentences. */
      readonly notes?: readonly string[]
    }
  | {
      readonly kind: 'verified'
      /** ISO 8601. */
      readonly madeAt: string
      readonly checkedBytes: number
      readonly equal: boolean
      /** How many stretches are not as recorded, do not read, hold what was not recorded. */
      readonly differing: number
      readonly unreadable: number
      readonly strange: number
      readonly touched: Touched | null
    }
  | {
      readonly kind: 'compared'
      readonly comparison: Comparison
      readonly touched: Touched | null
      readonly sectorSize: number
      /** Sectors of either that did not read, of which nobody knows whether they are the same. */
      readonly unreadable: readonly [number, number]
    }

const LostSchema = z.object({
  sectors: z.number(),
  files: z.array(z.object({ partition: z.number(), path: z.string() })),
}) satisfies z.ZodType<LostInImage>

const MapTakenSchema = z.object({
  partition: z.number(),
  checked: z.boolean(),
  finding: z.string().optional(),
}) satisfies z.ZodType<MapTaken>

const ComparisonSchema = z.object({
  equal: z.boolean(),
  sizes: z.tuple([z.number(), z.number()]),
  firstDifference: z.number().nullable(),
  differingBytes: z.number(),
  ranges: z.array(z.object({ offset: z.number(), length: z.number() })),
  moreRanges: z.boolean(),
}) satisfies z.ZodType<Comparison>

const TouchedSchema = z.object({
  partitions: z.array(z.number()),
  files: z.array(z.object({ partition: z.number(), path: z.string() })),
  outside: z.boolean(),
  incomplete: z.boolean(),
}) satisfies z.ZodType<Touched>

/** As it is stored. */
export const JobResultSchema: z.ZodType<JobResult> = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('written'),
    virtualBytes: z.number(),
    fileBytes: z.number(),
    hostBytes: z.number(),
    lost: LostSchema,
    maps: z.array(MapTakenSchema),
    verified: z.boolean().default(false),
    hostBytesBefore: z.number().optional(),
    leftOut: z.object({ files: z.number(), bytes: z.number() }).optional(),
    notes: z.array(z.string()).optional(),
  }),
  z.object({
    kind: z.literal('verified'),
    madeAt: z.string(),
    checkedBytes: z.number(),
    equal: z.boolean(),
    differing: z.number(),
    unreadable: z.number(),
    strange: z.number(),
    touched: TouchedSchema.nullable(),
  }),
  z.object({
    kind: z.literal('compared'),
    comparison: ComparisonSchema,
    touched: TouchedSchema.nullable(),
    sectorSize: z.number(),
    unreadable: z.tuple([z.number(), z.number()]),
  }),
])
