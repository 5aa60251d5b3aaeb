import { type BlockDevice, readBytes } from '../block/device'
import { SliceDevice } from '../block/slice'
import { LOADER_EXTENSION, systemOn } from '../boot/systems'
import { crc32, crcText } from '../bytes/crc32'
import { MIB } from '../bytes/size'
import { readMarker } from '../copy/marker'
import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, recognise } from '../filesystem'
import type { Finding } from '../findings'
import { type GptReading, readGpt, usableRange } from '../scheme/gpt'
import { ATTRIBUTES, type GptPartition, TYPE_GUIDS } from '../scheme/types'
import { DepthProfile } from './profile'
import type { DriveSurvey, PartitionSurvey, Role, VolumeSurvey } from './types'
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
      sentence: 'A copy to this drive did not end, so nothing on it can be relied on. Start the copy over.',
      evidence: unfinished,
    })
    return { ...base, ...nothing, scheme: 'unfinished', profile: profile.shares(), findings }
  }
  let reading: GptReading | undefined
  try {
    reading = await readGpt(device)
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    findings.push({ severity: 'damage', code: 'drive.table-damaged', sentence: error.message })
    return { ...base, ...nothing, scheme: 'damaged', profile: profile.shares(), findings }
  }
  if (!reading) {
    const content = await unknownContent(device)
    if (content) findings.push(content.finding)
    return { ...base, ...nothing, scheme: content?.scheme ?? 'none', profile: profile.shares(), findings }
  }

  findings.push(...reading.findings)
  const partitions: PartitionSurvey[] = []
  const loaders: DriveSurvey['loaders'] = []
  const ordered = [...reading.table.partitions].sort((a, b) => a.firstLba - b.firstLba)
  for (const entry of ordered) {
    const survey = await surveyPartition(device, entry, digest, profile)
    partitions.push(survey.partition)
    if (survey.fileSystem && survey.partition.role === 'boot')
      loaders.push(...(await listLoaders(survey.fileSystem, digest)))
  }
  findings.push(...hiddenFindings(partitions))
  return {
    ...base,
    scheme: 'gpt',
    table: {
      diskGuid: reading.table.diskGuid,
      from: reading.from,
      entriesCrc: (reading.primary.entriesCrc ?? reading.backup.entriesCrc)!,
      backupEntriesCrc: reading.backup.entriesCrc ?? null,
      backupLba: reading.backup.lba,
      protectiveMbr: reading.protectiveMbr,
    },
    partitions,
    gaps: gapsOf(ordered, device),
    loaders,
    usedBytes: partitions.reduce((sum, p) => sum + (p.volume?.usedBytes ?? p.sizeBytes), 0),
    profile: profile.shares(),
    findings,
  }
}

/** A short text that changes when anything in the sectors of either table copy does. */
export async function fingerprintOf(device: BlockDevice): Promise<string> {
  const { firstLba, lastLba } = usableRange(device.size, device.logicalSectorSize)
  const sector = device.logicalSectorSize
  const head = await readBytes(device, 0, firstLba * sector)
  const tailAt = (lastLba + 1) * sector
  const tail = await readBytes(device, tailAt, device.size - tailAt)
  return `${device.size}:${crcText(crc32(head))}:${crcText(crc32(tail))}`
}

async function surveyPartition(device: BlockDevice, entry: GptPartition, digest: Digest, profile: DepthProfile) {
  const sector = device.logicalSectorSize
  const startBytes = entry.firstLba * sector
  const sizeBytes = (entry.lastLba - entry.firstLba + 1) * sector
  const findings: Finding[] = []
  let volume: VolumeSurvey | undefined
  let fileSystem: FileSystem | undefined
  let system: PartitionSurvey['system']
  try {
    const slice = new SliceDevice(device, startBytes, sizeBytes)
    const driver = await recognise(slice)
    if (driver) {
      fileSystem = await driver.open(slice)
      findings.push(...fileSystem.findings)
      volume = await surveyVolume(fileSystem, startBytes, profile, Boolean(driver.grow))
      system = await systemOn(fileSystem, digest)
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    findings.push({ severity: 'damage', code: 'volume.damaged', sentence: error.message })
    fileSystem = undefined
  }
  if (!volume) profile.add(startBytes, sizeBytes)
  const role = roleOf(entry, Boolean(system))
  const attributes = BigInt(`0x${entry.attributes}`)
  const hasLetter = (role === 'system' || role === 'data') && (attributes & ATTRIBUTES.noDriveLetter) === 0n
  const aligned = startBytes % MIB === 0
  if (!aligned && startBytes % 4096 !== 0) {
    findings.push({
      severity: 'caution',
      code: 'partition.unaligned',
      sentence: `Partition ${entry.number} does not start at a multiple of 4 KiB, which slows an SSD down.`,
      evidence: `First sector ${entry.firstLba}`,
    })
  }
  const partition: PartitionSurvey = {
    ...entry,
    startBytes,
    sizeBytes,
    aligned,
    role,
    hasLetter,
    title: titleOf(role, entry, volume?.label ?? ''),
    volume,
    system,
    findings,
  }
  return { partition, fileSystem }
}

async function surveyVolume(
  fileSystem: FileSystem,
  startBytes: number,
  profile: DepthProfile,
  canGrow: boolean,
): Promise<VolumeSurvey> {
  let usedBytes = 0
  let lastEnd = 0
  let end = 0
  for await (const { offset, length } of fileSystem.usedExtents()) {
    usedBytes += length
    // What lies behind the last cluster is the boot sector's copy, which moves with the end.
    if (offset + fileSystem.clusterSize <= fileSystem.totalBytes) lastEnd = offset + length
    end = offset + length
    profile.add(startBytes + offset, length)
  }
  const { kind, name, label, serial, clusterSize, totalBytes, state } = fileSystem
  const smallestBytes = Math.min(end, lastEnd + clusterSize)
  return { kind, name, label, serial, clusterSize, totalBytes, usedBytes, smallestBytes, state, canGrow }
}

async function listLoaders(fileSystem: FileSystem, digest: Digest): Promise<DriveSurvey['loaders']> {
  const found: DriveSurvey['loaders'] = []
  const walk = async (path: string, depth: number): Promise<void> => {
    for (const entry of await fileSystem.list(path)) {
      if (entry.kind === 'directory' && depth < 6) await walk(entry.path, depth + 1)
      else if (entry.name.toLowerCase().endsWith(LOADER_EXTENSION) && entry.sizeBytes <= 64 * MIB) {
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

function roleOf(entry: GptPartition, hasSystem: boolean): Role {
  switch (entry.typeGuid) {
    case TYPE_GUIDS.efiSystem:
      return 'boot'
    case TYPE_GUIDS.reserved:
      return 'reserved'
    case TYPE_GUIDS.recovery:
      return 'recovery'
    case TYPE_GUIDS.linuxSwap:
      return 'swap'
    case TYPE_GUIDS.basicData:
    case TYPE_GUIDS.linuxData:
      return hasSystem ? 'system' : 'data'
  }
  return 'unknown'
}

const ROLE_TITLES: Record<Role, string> = {
  boot: 'EFI system',
  reserved: 'Reserved',
  system: 'System',
  recovery: 'Recovery',
  data: 'Data',
  swap: 'Swap',
  unknown: 'Partition',
}

function titleOf(role: Role, entry: GptPartition, label: string): string {
  // A system calls the volume it runs from C:, wherever that lies.
  if (role === 'system') return `${label || ROLE_TITLES.system} (C:)`
  if (role === 'data') return label || entry.name || ROLE_TITLES.data
  return role === 'unknown' ? entry.name || `Partition ${entry.number}` : ROLE_TITLES[role]
}

function hiddenFindings(partitions: readonly PartitionSurvey[]): Finding[] {
  const hidden = partitions.filter((p) => !p.hasLetter)
  if (hidden.length === 0) return []
  const names = hidden.map((p) => p.title).join(', ')
  return [
    {
      severity: 'note',
      code: 'drive.hidden-partitions',
      sentence: `${hidden.length === 1 ? 'One partition has' : `${hidden.length} partitions have`} no drive letter and must come along: ${names}.`,
      evidence: `Partition ${hidden.map((p) => p.number).join(', ')}`,
    },
  ]
}

function gapsOf(ordered: readonly GptPartition[], device: BlockDevice): DriveSurvey['gaps'] {
  const { firstLba, lastLba } = usableRange(device.size, device.logicalSectorSize)
  const gaps: DriveSurvey['gaps'] = []
  let next = firstLba
  const add = (end: number) => {
    const sectors = end - next
    // Less than 1 MiB is alignment, not room.
    if (sectors * device.logicalSectorSize >= MIB) {
      gaps.push({ firstLba: next, lastLba: end - 1, sizeBytes: sectors * device.logicalSectorSize })
    }
  }
  for (const partition of ordered) {
    add(partition.firstLba)
    next = Math.max(next, partition.lastLba + 1)
  }
  add(lastLba + 1)
  return gaps
}
