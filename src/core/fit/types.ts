import { z } from 'zod'
import { GapSchema, RoleSchema } from '../survey/types'

/** How a partition gets its size: `keep` as it is, `fill` takes what is left (several share it equally). */
export const SizeRuleSchema = z.enum(['keep', 'fill'])
export type SizeRule = z.infer<typeof SizeRuleSchema>

/** Rules by partition number; a partition without one keeps its size. */
export const RulesSchema = z.record(z.string(), SizeRuleSchema)
export type Rules = Readonly<Record<string, SizeRule>>

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
  readonly code: 'too-small' | 'sector-size' | 'no-table' | 'same-drive'
  readonly sentence: string
  readonly missingBytes?: number
  readonly mend: string
}

export type FitResult =
  | { readonly fits: true; readonly layout: Layout; readonly headline: string; readonly reason: string }
  | { readonly fits: false; readonly obstacles: readonly FitObstacle[] }
