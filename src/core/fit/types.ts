import { z } from 'zod'
import { GapSchema, RoleSchema } from '../survey/types'

/**
 * How a partition gets its size: `keep` as it is; `share` in proportion to its old share of the drive; `set` a
 * size that was typed; `fill` takes what is left, several in equal parts.
 */
export const SizeRuleSchema = z.enum(['keep', 'fill', 'share', 'set'])
export type SizeRule = z.infer<typeof SizeRuleSchema>

/** What a person wants of a fit. */
export const FitWishSchema = z.object({
  /** Rules by partition number; a partition without one keeps its size. */
  rules: z.record(z.string(), SizeRuleSchema),
  /** For `set`: wanted bytes by partition number. */
  sizes: z.record(z.string(), z.number().positive()),
  /** Share of the target, 0 to 0.5, that stays unallocated at its end. */
  reserve: z.number().min(0).max(0.5),
})
export type FitWish = Readonly<z.infer<typeof FitWishSchema>>

/** One partition of a layout. Sectors are of the drive named; both ends inclusive. */
export const FitPartitionSchema = z.object({
  number: z.number(),
  typeGuid: z.string(),
  guid: z.string(),
  name: z.string(),
  attributes: z.string(),
  title: z.string(),
  role: RoleSchema,
  rule: SizeRuleSchema,
  sourceFirstLba: z.number(),
  sourceLastLba: z.number(),
  firstLba: z.number(),
  lastLba: z.number(),
  usedBytes: z.number(),
  smallestBytes: z.number(),
})
export type FitPartition = z.infer<typeof FitPartitionSchema>

/** Where everything goes on the target. */
export const LayoutSchema = z.object({
  diskGuid: z.string(),
  sectorSize: z.union([z.literal(512), z.literal(4096)]),
  sourceSizeBytes: z.number(),
  targetSizeBytes: z.number(),
  partitions: z.array(FitPartitionSchema),
  gaps: z.array(GapSchema),
})
export type Layout = z.infer<typeof LayoutSchema>

/** Why no layout is possible, each with what would mend it. */
export interface FitObstacle {
  readonly code: 'too-small' | 'sector-size' | 'no-table' | 'below-least'
  readonly sentence: string
  readonly missingBytes?: number
  readonly mend: string
}

export type FitResult =
  | { readonly fits: true; readonly layout: Layout; readonly headline: string; readonly reason: string }
  | { readonly fits: false; readonly obstacles: readonly FitObstacle[] }
