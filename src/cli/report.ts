import * as z from 'zod'
import type { DriveSurvey, PartitionSurvey } from '@/core/survey/types'
import type { HostImage } from '@/host/images'

// What `--json` prints. docs/cli.md describes it; the shapes here are the ones that are printed.

export const FindingReport = z.object({
  code: z.string(),
  severity: z.enum(['note', 'caution', 'damage']),
  message: z.string(),
  evidence: z.string().optional(),
  /** Of findings that belong to one. */
  partition: z.number().optional(),
})

export const FileSystemReport = z.object({
  kind: z.enum([
    'ntfs',
    'fat12',
    'fat16',
    'fat32',
    'exfat',
    'ext2',
    'ext3',
    'ext4',
    'hfsplus',
    'apfs',
    'swap',
    'luks',
    'bitlocker',
    'lvm',
    'unknown',
  ]),
  name: z.string(),
  label: z.string(),
  uuid: z.string(),
  clusterSize: z.number().nullable(),
  sizeBytes: z.number(),
  usedBytes: z.number(),
  smallestBytes: z.number(),
  shrunkBytes: z.number().nullable(),
  shrunkMargin: z.string().nullable(),
  state: z.enum(['clean', 'dirty', 'damaged', 'unknown']),
  encrypted: z.boolean(),
  content: z.enum(['files', 'map', 'sealed']),
  everySector: z.string().nullable(),
  map: z.enum(['checked', 'unchecked', 'missed']).nullable(),
})

export const PartitionReport = z.object({
  number: z.number(),
  /** A GUID in a GPT, `0x07` in an MBR, empty without a table. */
  type: z.string(),
  role: z.string(),
  title: z.string(),
  guid: z.string(),
  name: z.string(),
  kind: z.enum(['gpt', 'primary', 'extended', 'logical', 'whole']),
  active: z.boolean(),
  startBytes: z.number(),
  lengthBytes: z.number(),
  firstSector: z.number(),
  lastSector: z.number(),
  aligned: z.boolean(),
  fileSystem: FileSystemReport.nullable(),
  system: z.object({ family: z.string(), name: z.string(), version: z.string(), versionFrom: z.string() }).nullable(),
  idleFiles: z.array(
    z.object({
      path: z.string(),
      kind: z.enum(['page', 'swap', 'hibernation']),
      sizeBytes: z.number(),
      asleep: z.boolean(),
    }),
  ),
  findings: z.array(FindingReport),
})

export const SurveyReport = z.object({
  file: z.string(),
  image: z.object({
    format: z.string(),
    name: z.string(),
    fileBytes: z.number(),
    hostBytes: z.number(),
    parent: z.string().nullable(),
  }),
  scheme: z.enum(['gpt', 'mbr', 'none']),
  /** `sound`, or why there is no more to tell. */
  state: z.enum(['sound', 'damaged', 'empty', 'unknown', 'unfinished']),
  sectorSize: z.number(),
  sizeBytes: z.number(),
  usedBytes: z.number(),
  /** Of a drive of this computer: what is typed before it is written over. */
  plate: z.string().optional(),
  /** GUID of a GPT, signature of an MBR. */
  diskIdentity: z.string(),
  partitions: z.array(PartitionReport),
  unallocated: z.array(z.object({ startBytes: z.number(), lengthBytes: z.number() })),
  /** Of the drive, then of each partition. */
  findings: z.array(FindingReport),
})
export type SurveyReport = z.infer<typeof SurveyReport>

/** A survey as the command prints it. */
export function reportOf(file: string, image: HostImage, survey: DriveSurvey): SurveyReport {
  const partitions = survey.partitions.map(partitionReport)
  const own = [...image.findings, ...survey.findings].map((f) => findingReport(f))
  return {
    file,
    image: {
      format: image.kind,
      name: image.name,
      fileBytes: image.file.size,
      hostBytes: image.file.hostBytes,
      parent: image.parent ?? null,
    },
    scheme: schemeOf(survey),
    state: stateOf(survey),
    sectorSize: survey.logicalSectorSize,
    sizeBytes: survey.sizeBytes,
    usedBytes: survey.usedBytes,
    ...(image.plate === undefined ? {} : { plate: image.plate }),
    diskIdentity: survey.table?.diskGuid ?? survey.mbr?.diskSignature ?? '',
    partitions,
    unallocated: survey.gaps.map((gap) => ({
      startBytes: gap.firstLba * survey.logicalSectorSize,
      lengthBytes: gap.sizeBytes,
    })),
    findings: [...own, ...partitions.flatMap((p) => p.findings)],
  }
}

function schemeOf({ scheme, partitions }: DriveSurvey): SurveyReport['scheme'] {
  if (scheme === 'gpt' || scheme === 'mbr') return scheme
  if (scheme === 'damaged') return partitions.some((p) => p.mbr) ? 'mbr' : 'gpt'
  return 'none'
}

function stateOf({ scheme }: DriveSurvey): SurveyReport['state'] {
  switch (scheme) {
    case 'gpt':
    case 'mbr':
    case 'volume':
      return 'sound'
    case 'none':
      return 'empty'
    default:
      return scheme
  }
}

function findingReport(finding: DriveSurvey['findings'][number], partition?: number): z.infer<typeof FindingReport> {
  const { code, severity, sentence, evidence } = finding
  return {
    code,
    severity,
    message: sentence,
    ...(evidence ? { evidence } : {}),
    ...(partition === undefined ? {} : { partition }),
  }
}

function partitionReport(partition: PartitionSurvey): z.infer<typeof PartitionReport> {
  const { number, typeGuid, mbr, role, title, guid, name, startBytes, sizeBytes, firstLba, lastLba, aligned } =
    partition
  return {
    number,
    type: mbr ? `0x${mbr.type.toString(16).padStart(2, '0')}` : typeGuid,
    role,
    title,
    guid,
    name,
    kind: mbr?.kind ?? (number === 0 ? 'whole' : 'gpt'),
    active: mbr?.active ?? false,
    startBytes,
    lengthBytes: sizeBytes,
    firstSector: firstLba,
    lastSector: lastLba,
    aligned,
    fileSystem: role === 'extended' ? null : fileSystemReport(partition),
    system: partition.system
      ? {
          family: partition.system.family,
          name: partition.system.name,
          version: partition.system.version ?? '',
          versionFrom: partition.system.versionFrom ?? '',
        }
      : null,
    idleFiles: partition.idleFiles,
    findings: partition.findings.map((f) => findingReport(f, number)),
  }
}

function fileSystemReport({ volume, sizeBytes }: PartitionSurvey): z.infer<typeof FileSystemReport> {
  const kind = FileSystemReport.shape.kind.safeParse(volume?.kind)
  return {
    kind: kind.success ? kind.data : 'unknown',
    name: volume?.name ?? '',
    label: volume?.label ?? '',
    uuid: volume?.serial ?? '',
    // Of a volume that cannot be looked into it is not known.
    clusterSize: volume && volume.depth !== 'sealed' ? volume.clusterSize : null,
    sizeBytes: volume?.totalBytes ?? sizeBytes,
    usedBytes: volume?.usedBytes ?? sizeBytes,
    smallestBytes: volume?.smallestBytes ?? sizeBytes,
    shrunkBytes: volume?.shrunkBytes ?? null,
    shrunkMargin: volume?.shrunkMargin ?? null,
    state: volume?.state ?? 'unknown',
    encrypted: volume?.encrypted ?? false,
    content: volume?.depth ?? 'sealed',
    everySector: volume?.everySector ?? null,
    map: volume?.map ?? null,
  }
}
