import * as z from 'zod'
import { MIB } from '../bytes/size'
import { GapSchema, RoleSchema } from '../survey/types'

/**
 * How a partition gets its size: `keep` as it is; `share` in proportion to its old share of the drive; `set` a
 * size that was typed or dragged; `fill` takes what is left, several in equal parts; `least` the smallest it can be.
 */
export const SizeRuleSchema = z.enum(['keep', 'fill', 'share', 'set', 'least'])
export type SizeRule = z.infer<typeof SizeRuleSchema>

export const SchemeSchema = z.enum(['gpt', 'mbr'])
export type Scheme = z.infer<typeof SchemeSchema>

const PartitionNumber = z.number().int().min(0).max(1024)

/** What a person wants of a fit. Partitions are named by their number on the source. */
export const FitWishSchema = z.object({
  /** Rules by partition number; a partition without one keeps its size. */
  rules: z.record(z.string(), SizeRuleSchema),
  /** For `set`: wanted bytes by partition number. */
  sizes: z.record(z.string(), z.number().positive()),
  /** Share of the target, 0 to 0.5, that stays unallocated at its end. */
  reserve: z.number().min(0).max(0.5),
  /** Partition numbers in the order in which they stand on the target; those left out come behind, in their own. */
  order: z.array(PartitionNumber).optional(),
  /** Partitions that do not come along. */
  leaveOut: z.array(PartitionNumber).optional(),
  /** Every start is a multiple of so many bytes; 1 MiB where nothing is said. */
  alignBytes: z
    .number()
    .int()
    .min(4096)
    .max(1024 * MIB)
    .multipleOf(4096)
    .optional(),
  /** The kind of partition table; the source's where nothing is said. */
  scheme: SchemeSchema.optional(),
  /** Identities of the target: the source's, or new ones made from `seed`, for the disk alone or for all on it. */
  identity: z.object({ of: z.enum(['disk', 'all']), seed: z.uuid() }).optional(),
  /** What volumes are called on the target, by partition number; the others keep their labels. */
  labels: z.record(z.string(), z.string().max(128)).optional(),
  /** Numbers follow the order of the places. */
  renumber: z.boolean().optional(),
  /** Of one volume that goes to a drive which keeps everything else: a partition there, or unallocated space. */
  into: z.union([PartitionNumber, z.literal('free')]).optional(),
})
export type FitWish = Readonly<z.infer<typeof FitWishSchema>>

/** One partition of a layout. Sectors are of the drive named; both ends inclusive. */
export const FitPartitionSchema = z.object({
  /** On the target. */
  number: z.number(),
  sourceNumber: z.number(),
  /** Empty in an MBR. */
  typeGuid: z.string(),
  guid: z.string(),
  name: z.string(),
  attributes: z.string(),
  /** What its record in an MBR says. */
  mbr: z
    .object({
      type: z.number(),
      active: z.boolean(),
      kind: z.enum(['primary', 'logical']),
      /** Sector of the target that holds the record; 0 for a primary one. */
      recordLba: z.number(),
    })
    .optional(),
  title: z.string(),
  role: RoleSchema,
  rule: SizeRuleSchema,
  sourceFirstLba: z.number(),
  sourceLastLba: z.number(),
  firstLba: z.number(),
  lastLba: z.number(),
  usedBytes: z.number(),
  /** The least this partition could be. */
  leastBytes: z.number(),
  /** The most its volume could fill; absent where there is no such end. */
  mostBytes: z.number().optional(),
  /** The volume takes the partition's new size; else it stays as it is and what is added stays unused. */
  resizes: z.boolean(),
  /** The label that its volume gets; absent where it keeps its own. */
  label: z.string().optional(),
})
export type FitPartition = z.infer<typeof FitPartitionSchema>

/** Something of a drive's or a partition's identity that is another on the target. */
export const ChangeSchema = z.object({
  /** The partition's number on the source; null for the drive. */
  partition: z.number().nullable(),
  what: z.enum(['disk identity', 'partition identity', 'number', 'table', 'type', 'left out', 'start area', 'label']),
  sentence: z.string(),
})
export type Change = z.infer<typeof ChangeSchema>

/** Where everything goes on the target. */
export const LayoutSchema = z.object({
  scheme: SchemeSchema,
  /** The GPT's disk GUID; empty in an MBR. */
  diskGuid: z.string(),
  /** Eight hexadecimal digits in an MBR; else empty. */
  diskSignature: z.string(),
  sectorSize: z.union([z.literal(512), z.literal(4096)]),
  sourceSectorSize: z.union([z.literal(512), z.literal(4096)]),
  sourceSizeBytes: z.number(),
  targetSizeBytes: z.number(),
  /** In order of their places. */
  partitions: z.array(FitPartitionSchema),
  /** The container of the logical partitions of an MBR. */
  extended: z.object({ number: z.number(), firstLba: z.number(), lastLba: z.number() }).nullable(),
  /** Partitions that the MBR of a GPT names a second time. */
  hybrid: z.array(z.object({ number: z.number(), type: z.number(), active: z.boolean() })),
  /** Start-up code in front of the partitions comes along: the MBR's own, and sectors up to this one. */
  startArea: z.object({ bootCode: z.boolean(), lastLba: z.number() }),
  gaps: z.array(GapSchema),
  changes: z.array(ChangeSchema),
  /**
   * Of one volume that goes to a drive which keeps everything else: what the table says of the type of its partition.
   * Before is empty where the entry is made for it.
   */
  into: z.object({ before: z.string(), after: z.string() }).optional(),
})
export type Layout = z.infer<typeof LayoutSchema>

/** What the solver needs to know of a target. */
export interface FitTarget {
  readonly sizeBytes: number
  readonly logicalSectorSize: number
}

/** Why no layout is possible, each with what would mend it. */
export interface FitObstacle {
  readonly code:
    | 'too-small'
    | 'sector-size'
    | 'no-table'
    | 'below-least'
    | 'above-most'
    | 'not-clean'
    | 'beyond-2tib'
    | 'too-many'
    | 'order'
    | 'nothing'
    | 'does-not-resize'
    | 'label'
    | 'in-use'
  /** The partition's number on the source, where it is one's. */
  readonly partition?: number
  readonly sentence: string
  readonly missingBytes?: number
  readonly mend: string
}

/** Something to know about a fit that works. */
export interface FitNote {
  readonly tone: 'note' | 'caution'
  readonly sentence: string
}

export interface FitFits {
  readonly fits: true
  readonly layout: Layout
  readonly headline: string
  readonly reason: string
  readonly notes: readonly FitNote[]
}

export interface FitFails {
  readonly fits: false
  readonly obstacles: readonly FitObstacle[]
  /** The wish closest to the one asked for that would work, with what is other in it. */
  readonly nearest?: { readonly wish: FitWish; readonly says: string }
}

export type FitResult = FitFits | FitFails

/** Length of a layout's partition in bytes, on the target and on the source. */
export function fitSizes(partition: FitPartition, layout: Layout): { after: number; before: number } {
  return {
    after: (partition.lastLba - partition.firstLba + 1) * layout.sectorSize,
    before: (partition.sourceLastLba - partition.sourceFirstLba + 1) * layout.sourceSectorSize,
  }
}
