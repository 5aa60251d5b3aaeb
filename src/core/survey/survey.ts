import { type BlockDevice, unreadableAsNothing } from '../block/device'
import { toBase64 } from '../bytes/base64'
import { concatBytes } from '../bytes/concat'
import { MIB } from '../bytes/size'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, recognise } from '../filesystem'
import type { Finding } from '../findings'
import { partitionRange, readScheme, type SchemeReading } from '../scheme'
import { type TablePartition, TYPE_GUIDS } from '../scheme/types'
import { readBootCode } from './boot-code'
import { fingerprintOf } from './fingerprint'
import { LOADER_EXTENSION } from './known-systems'
import { readMarker } from './marker'
import { surveyPartition } from './partition'
import { DepthProfile } from './profile'
import type { DriveSurvey, PartitionSurvey } from './types'
import { unknownContent } from './unknown'

/**
 * Reads what is on a drive, writing nothing: table, partitions, file systems, systems, loaders, what is used
 * where. Damage becomes a finding; rejects only when the device itself cannot be read at all.
 */
export async function surveyDrive(device: BlockDevice, digest: Digest): Promise<DriveSurvey> {
  const findings: Finding[] = []
  const profile = new DepthProfile(device.size)
  const base = {
    sizeBytes: device.size,
    logicalSectorSize: device.logicalSectorSize,
    fingerprint: await fingerprintOf(device),
  }
  const nothing = { partitions: [], gaps: [], loaders: [], usedBytes: 0 }
  const unfinished = await readMarker(device)
  if (unfinished) {
    findings.push({
      severity: 'damage',
      code: 'drive.unfinished',
      sentence:
        'A copy to this drive did not end, so nothing on it can be relied on. Resume that copy, or start it over.',
      evidence: unfinished.note,
    })
    return { ...base, ...nothing, scheme: 'unfinished', profile: profile.shares(), findings }
  }
  const reading = await readScheme(device)
  findings.push(...(reading?.findings ?? []))
  const entries = reading ? reading.partitions : await wholeDrive(device)
  if (entries.length === 0 && (!reading || reading.scheme === 'damaged')) {
    const content = reading ? undefined : await unknownContent(device).catch(unreadableAsNothing)
    if (content) findings.push(content)
    const scheme = reading ? 'damaged' : content ? 'unknown' : 'none'
    return { ...base, ...nothing, scheme, profile: profile.shares(), findings }
  }

  const partitions: PartitionSurvey[] = []
  const loaders: DriveSurvey['loaders'] = []
  const ordered = [...entries].sort((a, b) => a.firstLba - b.firstLba)
  for (const entry of ordered) {
    const { partition, fileSystem } = await surveyPartition(device, entry, digest, profile)
    partitions.push(partition)
    if (fileSystem && isEfiSystem(entry)) loaders.push(...(await listLoaders(fileSystem, digest)))
  }
  takeForSystem(partitions)
  tellApart(partitions)
  findings.push(...hiddenFindings(partitions))
  return {
    ...base,
    scheme: reading ? reading.scheme : 'volume',
    ...(await tableOf(reading, device, digest)),
    partitions,
    gaps: reading ? gapsOf(ordered, reading, device) : [],
    loaders,
    usedBytes: partitions.reduce((sum, p) => sum + usedOf(p), 0),
    profile: profile.shares(),
    findings,
  }
}

/** Bytes of a partition that a copy has to take along. */
function usedOf(partition: PartitionSurvey): number {
  if (partition.role === 'extended') return 0
  if (partition.volume?.everySector) return partition.sizeBytes
  return partition.volume?.usedBytes ?? partition.sizeBytes
}

/** A file system that fills a drive without a table, as partition 0. */
async function wholeDrive(device: BlockDevice): Promise<TablePartition[]> {
  if (!(await recognise(device).catch(() => undefined))) return []
  const lastLba = device.size / device.logicalSectorSize - 1
  return [{ number: 0, typeGuid: '', guid: '', name: '', attributes: '0'.repeat(16), firstLba: 0, lastLba }]
}

async function tableOf(
  reading: SchemeReading | undefined,
  device: BlockDevice,
  digest: Digest,
): Promise<Pick<DriveSurvey, 'table' | 'mbr'>> {
  if (reading?.scheme === 'gpt') {
    const { table, from, primary, backup, protectiveMbr, hybridMbr, hybrid } = reading.gpt
    return {
      table: {
        diskGuid: table.diskGuid,
        from,
        entriesCrc: (primary.entriesCrc ?? backup.entriesCrc)!,
        backupEntriesCrc: backup.entriesCrc ?? null,
        backupLba: backup.lba,
        protectiveMbr,
        hybridMbr,
        hybrid: [...hybrid],
        entryCount: table.entryCount,
        entrySize: table.entrySize,
      },
    }
  }
  if (reading?.scheme === 'mbr') {
    const { diskSignature, hasBootCode, partitions } = reading.mbr
    const active = partitions.find((p) => p.mbr!.active && p.mbr!.kind === 'primary')
    const startCode = await startCodeOf(device, partitions, digest)
    const mbr = { diskSignature, hasBootCode, activePartition: active?.number ?? null }
    return { mbr: startCode ? { ...mbr, startCode } : mbr }
  }
  return {}
}

/** The code in front of the first partition; undefined where the drive does not give all of it. */
async function startCodeOf(device: BlockDevice, partitions: readonly TablePartition[], digest: Digest) {
  try {
    const code = await readBootCode(device, partitions)
    return {
      first: toBase64(code.first),
      gap: toBase64(code.gap),
      digest: toHex(digest(concatBytes([code.first, code.gap]))),
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return undefined
  }
}

const LOADER_LIMITS = { depth: 6, files: 1000, bytes: 64 * MIB }

async function listLoaders(fileSystem: FileSystem, digest: Digest): Promise<DriveSurvey['loaders']> {
  const found: DriveSurvey['loaders'] = []
  const walk = async (path: string, depth: number): Promise<void> => {
    for (const entry of await fileSystem.list(path)) {
      if (found.length >= LOADER_LIMITS.files) return
      if (entry.kind === 'directory' && depth < LOADER_LIMITS.depth) await walk(entry.path, depth + 1)
      else if (entry.name.toLowerCase().endsWith(LOADER_EXTENSION) && entry.sizeBytes <= LOADER_LIMITS.bytes) {
        const bytes = await fileSystem.readFile(entry.path)
        found.push({ path: entry.path, sizeBytes: entry.sizeBytes, digest: toHex(digest(bytes)) })
      }
    }
  }
  try {
    await walk('/EFI', 0)
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
  }
  return found
}

function isEfiSystem(entry: TablePartition): boolean {
  return entry.typeGuid === TYPE_GUIDS.efiSystem || entry.mbr?.type === 0xef
}

/**
 * On a drive that starts something and on which no system can be seen, the one large encrypted volume is taken for
 * the system's; that it is a guess is said.
 */
function takeForSystem(partitions: PartitionSurvey[]): void {
  const starts = partitions.some((p) => p.role === 'boot')
  if (!starts || partitions.some((p) => p.role === 'system')) return
  const sealed = partitions.filter((p) => p.role === 'data' && p.volume?.encrypted)
  const largest = sealed.reduce<PartitionSurvey | undefined>(
    (a, b) => (a && a.sizeBytes >= b.sizeBytes ? a : b),
    undefined,
  )
  if (!largest) return
  const at = partitions.indexOf(largest)
  partitions[at] = {
    ...largest,
    role: 'system',
    title: largest.volume?.label || 'Encrypted system',
    findings: [
      ...largest.findings,
      {
        severity: 'note',
        code: 'partition.taken-for-system',
        sentence: `Partition ${largest.number} is taken for the system volume: the drive starts a system, and this is its largest encrypted volume.`,
      },
    ],
  }
}

function hiddenFindings(partitions: readonly PartitionSurvey[]): Finding[] {
  const hidden = partitions.filter((p) => !p.hasLetter && p.role !== 'extended' && p.number > 0)
  if (hidden.length === 0) return []
  const names = hidden.map((p) => p.title).join(', ')
  return [
    {
      severity: 'note',
      code: 'drive.hidden-partitions',
      sentence: `${hidden.length === 1 ? 'One partition has no drive letter and is' : `${hidden.length} partitions have no drive letter and are`} copied too: ${names}.`,
      evidence: `Partition ${hidden.map((p) => p.number).join(', ')}`,
    },
  ]
}

function gapsOf(ordered: readonly TablePartition[], reading: SchemeReading, device: BlockDevice): DriveSurvey['gaps'] {
  const { firstLba, lastLba } = partitionRange(reading, device)
  const gaps: DriveSurvey['gaps'] = []
  let next = firstLba
  const add = (end: number) => {
    const sectors = end - next
    // A mebibyte and less is alignment or the record in front of a logical partition, not room.
    if (sectors * device.logicalSectorSize > MIB) {
      gaps.push({ firstLba: next, lastLba: end - 1, sizeBytes: sectors * device.logicalSectorSize })
    }
  }
  for (const partition of ordered) {
    // Inside an extended partition only the logical ones take room.
    if (partition.mbr?.kind === 'extended') continue
    add(Math.min(partition.firstLba, lastLba + 1))
    next = Math.max(next, partition.lastLba + 1)
  }
  add(lastLba + 1)
  return gaps
}

/** Partitions that would be called the same have their numbers behind it. */
function tellApart(partitions: PartitionSurvey[]): void {
  const shared = partitions.map(({ title }) => partitions.filter((other) => other.title === title).length > 1)
  partitions.forEach((partition, i) => {
    if (shared[i]) partitions[i] = { ...partition, title: `${partition.title} ${partition.number}` }
  })
}
