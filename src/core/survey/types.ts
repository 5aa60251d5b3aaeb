import { z } from 'zod'

export const FindingSchema = z.object({
  severity: z.enum(['note', 'caution', 'damage']),
  code: z.string(),
  sentence: z.string(),
  evidence: z.string().optional(),
})

/** What a partition is for. */
export const RoleSchema = z.enum(['boot', 'reserved', 'system', 'recovery', 'data', 'swap', 'unknown'])
export type Role = z.infer<typeof RoleSchema>

export const VolumeSurveySchema = z.object({
  kind: z.string(),
  /** The kind as the trade writes it. */
  name: z.string(),
  label: z.string(),
  serial: z.string(),
  clusterSize: z.number(),
  totalBytes: z.number(),
  usedBytes: z.number(),
  /** End of the last used cluster: the least the partition can be without files being moved. */
  smallestBytes: z.number(),
  state: z.enum(['clean', 'dirty']),
  canGrow: z.boolean(),
})
export type VolumeSurvey = z.infer<typeof VolumeSurveySchema>

export const InstalledSystemSchema = z.object({
  name: z.string(),
  /** Path of the loader on the system volume, and its digest in hexadecimal. */
  loaderPath: z.string(),
  loaderDigest: z.string(),
})

export const PartitionSurveySchema = z.object({
  number: z.number(),
  typeGuid: z.string(),
  guid: z.string(),
  /** The name in the partition table. */
  name: z.string(),
  attributes: z.string(),
  firstLba: z.number(),
  lastLba: z.number(),
  startBytes: z.number(),
  sizeBytes: z.number(),
  /** The start is a multiple of 1 MiB. */
  aligned: z.boolean(),
  role: RoleSchema,
  /** False where a running system gives it no drive letter, so that people overlook it. */
  hasLetter: z.boolean(),
  /** What people call it: label with letter, or its role. */
  title: z.string(),
  volume: VolumeSurveySchema.optional(),
  system: InstalledSystemSchema.optional(),
  findings: z.array(FindingSchema),
})
export type PartitionSurvey = z.infer<typeof PartitionSurveySchema>

export const TableSurveySchema = z.object({
  diskGuid: z.string(),
  from: z.enum(['primary', 'backup']),
  entriesCrc: z.number(),
  backupEntriesCrc: z.number().nullable(),
  backupLba: z.number(),
  protectiveMbr: z.boolean(),
})

export const GapSchema = z.object({ firstLba: z.number(), lastLba: z.number(), sizeBytes: z.number() })

/** Loader files of the EFI system partition, by path, with their digests. */
export const LoaderFileSchema = z.object({ path: z.string(), sizeBytes: z.number(), digest: z.string() })

export const DriveSurveySchema = z.object({
  sizeBytes: z.number(),
  logicalSectorSize: z.union([z.literal(512), z.literal(4096)]),
  /**
   * `none`: empty. `unknown`: holds something that is not understood. `unfinished`: an earlier copy to this
   * drive did not end.
   */
  scheme: z.enum(['gpt', 'none', 'damaged', 'unknown', 'unfinished']),
  table: TableSurveySchema.optional(),
  partitions: z.array(PartitionSurveySchema),
  gaps: z.array(GapSchema),
  loaders: z.array(LoaderFileSchema),
  /** Bytes that hold something, over all partitions. */
  usedBytes: z.number(),
  /** Share used, 0 to 1, of each of PROFILE_BUCKETS equal stretches from first sector to last. */
  profile: z.array(z.number()),
  /** Changes when the partition table does; the plate check binds to it. */
  fingerprint: z.string(),
  findings: z.array(FindingSchema),
})
export type DriveSurvey = z.infer<typeof DriveSurveySchema>

export const PROFILE_BUCKETS = 240
