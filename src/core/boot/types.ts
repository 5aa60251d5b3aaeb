import * as z from 'zod'
import { LoaderFileSchema } from '../survey/types'

/** Signers that firmware trusts as it is sold: of the usual system's loaders, and of all others. */
export const SIGNERS = ['System loaders 2023', 'Other loaders 2023'] as const

/** The settings of a computer's firmware that decide what it starts from. */
export const FirmwareSchema = z.object({
  mode: z.enum(['uefi', 'bios']),
  secureBoot: z.boolean(),
  /** Its age decides what it can start from. */
  startsFromUsb: z.boolean().default(true),
  startsFromNvme: z.boolean().default(true),
  /** Starts from a drive of more than 2 TiB. */
  startsBeyond2Tib: z.boolean().default(true),
  /** The key that opens the boot menu. */
  bootMenuKey: z.string().max(20),
  bootEntries: z
    .array(
      z.object({
        id: z.string().max(8),
        name: z.string().max(80),
        partitionGuid: z.string().max(36),
        path: z.string().max(260),
      }),
    )
    .max(32),
  bootOrder: z.array(z.string().max(8)).max(32),
  /** Whose signatures Secure Boot lets start. */
  trustedSigners: z
    .array(z.string().min(1).max(80))
    .max(16)
    .default([...SIGNERS]),
  /** Slots in the order in which a BIOS looks at them; those that are not named come after, as they are wired. */
  driveOrder: z.array(z.string().max(40)).max(24).default([]),
})
export type Firmware = z.infer<typeof FirmwareSchema>

/** What the source held, to compare with. */
export const TraceReferenceSchema = z.object({
  systemPartitionGuid: z.string(),
  systemLoaderPath: z.string(),
  systemLoaderDigest: z.string(),
  loaders: z.array(LoaderFileSchema),
  /** The loaders are those that this drive had before, and not the source's. */
  ownLoaders: z.boolean().optional(),
  /** Digest of the code in front of the first partition of an MBR. */
  startCodeDigest: z.string().optional(),
})
export type TraceReference = z.infer<typeof TraceReferenceSchema>

/** What each link of a start is called. */
export const LINK_TITLES = {
  firmware: 'Firmware',
  table: 'Partition table',
  'boot-code': 'Start-up code',
  'boot-partition': 'Boot partition',
  loader: 'Boot loader',
  settings: 'Boot settings',
  'system-volume': 'System volume',
  driver: 'Storage driver',
  'sign-in': 'Sign-in',
} as const
export type LinkId = keyof typeof LINK_TITLES

/** The links of a start in their order. */
export const TRACE_LINKS: Readonly<Record<Firmware['mode'], readonly LinkId[]>> = {
  uefi: ['firmware', 'table', 'boot-partition', 'loader', 'settings', 'system-volume', 'driver', 'sign-in'],
  bios: [
    'firmware',
    'table',
    'boot-code',
    'boot-partition',
    'loader',
    'settings',
    'system-volume',
    'driver',
    'sign-in',
  ],
}

export const TraceLinkSchema = z.object({
  id: z.string(),
  title: z.string(),
  /** `unproved`: it may hold, and cannot be followed from here. */
  state: z.enum(['passed', 'failed', 'unproved', 'not-reached']),
  /** What was found, as the end of "Firmware: …". */
  found: z.string(),
  /** Where and what exactly: paths, sectors, checksums. */
  evidence: z.string(),
  /** For a failed link why the start ends there, for an unproved one why it is not followed. */
  why: z.string().optional(),
  /** Names of repairs that may mend it. */
  repairs: z.array(z.string()).optional(),
})
export type TraceLink = z.infer<typeof TraceLinkSchema>

export const TraceSchema = z.object({
  links: z.array(TraceLinkSchema),
  /** No link failed; some may be unproved. */
  starts: z.boolean(),
  /** Id of the drive that was started from. */
  startedFrom: z.string().optional(),
  systemPartitionGuid: z.string().optional(),
  /** Id of the drive that the system's volume is on, where the start was followed so far. */
  systemDrive: z.string().optional(),
  /** Number of the system's partition, where the start was followed so far. */
  systemPartition: z.number().optional(),
})
export type Trace = z.infer<typeof TraceSchema>
