import { z } from 'zod'
import { LoaderFileSchema } from '../survey/types'

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
})
export type Firmware = z.infer<typeof FirmwareSchema>

/** What the source held, to compare with. */
export const TraceReferenceSchema = z.object({
  systemPartitionGuid: z.string(),
  systemLoaderPath: z.string(),
  systemLoaderDigest: z.string(),
  loaders: z.array(LoaderFileSchema),
})
export type TraceReference = z.infer<typeof TraceReferenceSchema>

/** The links of a start, in order. */
export const TRACE_LINKS = [
  ['firmware', 'Firmware'],
  ['table', 'Partition table'],
  ['esp', 'EFI system partition'],
  ['loader', 'Boot loader'],
  ['system-volume', 'System volume'],
  ['system-loader', 'System loader'],
] as const

export const TraceLinkSchema = z.object({
  id: z.enum(['firmware', 'table', 'esp', 'loader', 'system-volume', 'system-loader']),
  title: z.string(),
  state: z.enum(['passed', 'failed', 'not-reached']),
  /** What was found, as the end of "Firmware: …". */
  found: z.string(),
  /** Where and what exactly: paths, sectors, checksums. */
  evidence: z.string(),
  /** For a failed link: why the start ends there. */
  why: z.string().optional(),
})
export type TraceLink = z.infer<typeof TraceLinkSchema>

export const TraceSchema = z.object({
  links: z.array(TraceLinkSchema),
  starts: z.boolean(),
  /** Id of the drive that was started from. */
  startedFrom: z.string().optional(),
  systemPartitionGuid: z.string().optional(),
})
export type Trace = z.infer<typeof TraceSchema>
