import * as z from 'zod'

export const FindingSchema = z.object({
  severity: z.enum(['note', 'caution', 'damage']),
  code: z.string(),
  sentence: z.string(),
  evidence: z.string().optional(),
})

/** What a partition is for. `extended` is only the container of logical partitions. */
export const RoleSchema = z.enum(['boot', 'reserved', 'system', 'recovery', 'data', 'swap', 'extended', 'unknown'])
export type Role = z.infer<typeof RoleSchema>

export const VolumeSurveySchema = z.object({
  /** `unknown` where nothing known is on it. */
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
  /** What moving files together could reach, and why not less; absent where nobody could. */
  shrunkBytes: z.number().optional(),
  shrunkMargin: z.string().optional(),
  state: z.enum(['clean', 'dirty', 'damaged', 'unknown']),
  /** How far its content is understood: its files, its map of used blocks, or nothing. */
  depth: z.enum(['files', 'map', 'sealed']).default('files'),
  encrypted: z.boolean().default(false),
  /** Why every sector of it is copied although its kind has a map of used blocks; absent where the map is relied on. */
  everySector: z.string().optional(),
  /** Whether its map of used blocks was held against its files; absent where nobody asked. */
  map: z.enum(['checked', 'unchecked', 'missed']).optional(),
  canGrow: z.boolean(),
  canShrink: z.boolean().default(false),
  /** The most the kind can be made to hold, where there is such an end. */
  mostBytes: z.number().optional(),
  /** It does not count in the drive's sectors, so that it can go to a drive with others. */
  anySectors: z.boolean().default(false),
})
export type VolumeSurvey = z.infer<typeof VolumeSurveySchema>

export const InstalledSystemSchema = z.object({
  family: z.enum(['windows', 'linux', 'macos']).default('windows'),
  name: z.string(),
  /** As its own files tell it; empty where none does. */
  version: z.string().optional(),
  /** The file that told. */
  versionFrom: z.string().optional(),
  /** It was made ready to meet another computer. */
  generalised: z.boolean().optional(),
  /** Path of the loader on the system volume, and its digest in hexadecimal; empty where it is not followed. */
  loaderPath: z.string(),
  loaderDigest: z.string(),
  /** Of the machine that the loader is made for; absent where that is not known. */
  bits: z.union([z.literal(32), z.literal(64)]).optional(),
})
export type InstalledSystem = z.infer<typeof InstalledSystemSchema>

/** A file that a system makes anew when it starts. */
export const IdleFileSchema = z.object({
  path: z.string(),
  kind: z.enum(['page', 'swap', 'hibernation']),
  sizeBytes: z.number(),
  /** A hibernation file that holds a sleeping system. */
  asleep: z.boolean(),
})
export type IdleFile = z.infer<typeof IdleFileSchema>

export const PartitionSurveySchema = z.object({
  /** 0 for a file system on a drive without a table. */
  number: z.number(),
  /** Empty in an MBR. */
  typeGuid: z.string(),
  guid: z.string(),
  /** The name in the partition table. */
  name: z.string(),
  attributes: z.string(),
  /** What the record of an MBR says. */
  mbr: z
    .object({
      type: z.number(),
      active: z.boolean(),
      kind: z.enum(['primary', 'extended', 'logical']),
      recordLba: z.number(),
    })
    .optional(),
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
  /** Absent where nothing known is on it. */
  volume: VolumeSurveySchema.optional(),
  system: InstalledSystemSchema.optional(),
  idleFiles: z.array(IdleFileSchema).default([]),
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
  hybridMbr: z.boolean().default(false),
  /** What a hybrid MBR names a second time, by number. */
  hybrid: z.array(z.object({ number: z.number(), type: z.number(), active: z.boolean() })).default([]),
  entryCount: z.number().default(128),
  entrySize: z.number().default(128),
})

/** Bytes in base64: the first 440 of the drive, and those behind its first sector as far as they are not zero. */
export const StartCodeSchema = z.object({ first: z.base64(), gap: z.base64(), digest: z.string() })

export const MbrSurveySchema = z.object({
  /** Eight hexadecimal digits. */
  diskSignature: z.string(),
  hasBootCode: z.boolean(),
  /** The code in front of the first partition, kept so that it can be compared and put back. */
  startCode: StartCodeSchema.optional(),
  activePartition: z.number().nullable(),
})

export const GapSchema = z.object({ firstLba: z.number(), lastLba: z.number(), sizeBytes: z.number() })

/** Loader files of the EFI system partition, by path, with their digests. */
export const LoaderFileSchema = z.object({ path: z.string(), sizeBytes: z.number(), digest: z.string() })

export const DriveSurveySchema = z.object({
  sizeBytes: z.number(),
  logicalSectorSize: z.union([z.literal(512), z.literal(4096)]),
  /**
   * `volume`: a file system without a table. `none`: empty. `unknown`: holds something that is not understood.
   * `unfinished`: an earlier copy to this drive did not end.
   */
  scheme: z.enum(['gpt', 'mbr', 'volume', 'none', 'damaged', 'unknown', 'unfinished']),
  table: TableSurveySchema.optional(),
  mbr: MbrSurveySchema.optional(),
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
