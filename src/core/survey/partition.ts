import { type BlockDevice, UnreadableSectors } from '../block/device'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import type { Digest } from '../digest'
import { BadStructure, CoreError, orUndefined } from '../errors'
import { type FileSystem, type FileSystemDriver, openCutOff, recognise } from '../filesystem'
import type { Finding } from '../findings'
import type { TablePartition } from '../scheme/types'
import { withBackupStart } from '../filesystem/backup-start'
import { lowerFirst } from '../words'
import { idleFiles } from './idle-files'
import type { DepthProfile } from './profile'
import { hasLetter, roleOf, titleOf } from './roles'
import { installedSystem } from './systems'
import type { IdleFile, InstalledSystem, PartitionSurvey, VolumeSurvey } from './types'

/** What one partition holds, with its file system still open. Damage becomes a finding. */
export async function surveyPartition(
  device: BlockDevice,
  entry: TablePartition,
  digest: Digest,
  profile: DepthProfile,
): Promise<{ partition: PartitionSurvey; fileSystem?: FileSystem }> {
  const sector = device.logicalSectorSize
  const startBytes = entry.firstLba * sector
  const sizeBytes = Math.max(0, (entry.lastLba - entry.firstLba + 1) * sector)
  const findings: Finding[] = []
  const isContainer = entry.mbr?.kind === 'extended'
  let driver: FileSystemDriver | undefined
  let volume: VolumeSurvey | undefined
  let fileSystem: FileSystem | undefined
  let system: InstalledSystem | undefined
  let files: IdleFile[] = []
  try {
    if (!isContainer && sizeBytes > 0) {
      // What a cut-off image still has of a partition is looked at; its file system tells that there is too little.
      const place = new SliceDevice(device, startBytes, Math.min(sizeBytes, Math.max(0, device.size - startBytes)))
      const restored = await withBackupStart(place, recognise)
      if (restored) {
        findings.push({
          severity: 'damage',
          code: 'volume.start-from-backup',
          sentence: 'The drive does not give the first sectors of this volume; its own copy of them was used.',
        })
      }
      const slice = restored ?? place
      driver = await recognise(slice)
      fileSystem = driver && (await openAsFarAsItGoes(driver, slice, findings))
    }
    if (fileSystem && driver) {
      findings.push(...fileSystem.findings)
      volume =
        fileSystem.state === 'damaged'
          ? { ...damagedVolume(driver, sizeBytes), label: fileSystem.label, serial: fileSystem.serial, depth: 'files' }
          : await surveyVolume(fileSystem, startBytes, profile, driver)
      if (fileSystem.depth === 'files') {
        system = await installedSystem(fileSystem, digest)
        const idle = await idleFiles(fileSystem)
        files = idle.files
        findings.push(...idle.findings)
      }
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    findings.push({
      severity: 'damage',
      code: 'volume.damaged',
      sentence: onDrive(error, entry.firstLba).message,
      ...(driver ? { evidence: `Recognised as ${driver.name}` } : {}),
    })
    fileSystem = undefined
    if (driver) volume = damagedVolume(driver, sizeBytes)
  }
  if (volume?.everySector) {
    findings.push({
      severity: 'caution',
      code: 'volume.every-sector',
      sentence: `Every sector of it is copied, and its size is kept: ${lowerFirst(volume.everySector)}`,
    })
  }
  if (!isContainer && (!volume || volume.state === 'damaged')) profile.add(startBytes, sizeBytes)
  const role = await roleOf(entry, { fileSystem, system })
  const aligned = startBytes % MIB === 0
  if (startBytes % 4096 !== 0 && !isContainer) {
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
    hasLetter: hasLetter(entry, role),
    title: titleOf(role, entry, volume?.label ?? '', system?.family),
    volume,
    system,
    idleFiles: files,
    findings,
  }
  return { partition, fileSystem }
}

async function surveyVolume(
  fileSystem: FileSystem,
  startBytes: number,
  profile: DepthProfile,
  driver: FileSystemDriver,
): Promise<VolumeSurvey> {
  let usedBytes = 0
  let lastEnd = 0
  let end = 0
  const { tailBytes = 0 } = fileSystem
  const filesEnd = fileSystem.totalBytes - tailBytes
  for await (const { offset, length } of fileSystem.usedExtents()) {
    usedBytes += length
    // What lies behind the last cluster is a copy of the header, which moves with the end.
    if (offset + fileSystem.clusterSize <= filesEnd) lastEnd = Math.min(offset + length, filesEnd)
    end = offset + length
    profile.add(startBytes + offset, length)
  }
  const {
    kind,
    name,
    label,
    serial,
    clusterSize,
    totalBytes,
    state,
    depth,
    encrypted = false,
    mostBytes,
    anySectors = false,
    mapUnsure: everySector,
  } = fileSystem
  const shrunk = fileSystem.shrunk?.(usedBytes)
  return {
    kind,
    name,
    label,
    serial,
    clusterSize,
    totalBytes,
    usedBytes,
    smallestBytes: Math.min(end, lastEnd + clusterSize + tailBytes),
    ...(shrunk ? { shrunkBytes: shrunk.bytes, shrunkMargin: shrunk.margin } : {}),
    state,
    depth,
    encrypted,
    ...(everySector === undefined ? {} : { everySector }),
    canGrow: driver.resizes !== undefined && (mostBytes === undefined || mostBytes > totalBytes),
    canShrink: driver.resizes === 'both',
    ...(mostBytes === undefined ? {} : { mostBytes }),
    anySectors,
  }
}

/** The error with sectors counted from the start of the drive, where it names sectors of the partition. */
function onDrive(error: CoreError, firstLba: number): CoreError {
  if (!(error instanceof UnreadableSectors)) return error
  return new UnreadableSectors(error.sectors.map((sector) => sector + firstLba))
}

/**
 * The volume opened. One that claims more than its partition has is opened as far as it reaches, which is noted: its
 * files can be looked at, and nothing else is made of it. Rejects as the driver does.
 */
async function openAsFarAsItGoes(
  driver: FileSystemDriver,
  slice: BlockDevice,
  findings: Finding[],
): Promise<FileSystem> {
  try {
    return await driver.open(slice)
  } catch (error) {
    const cutOff = error instanceof BadStructure ? await openCutOff(driver, slice).catch(orUndefined) : undefined
    if (!cutOff) throw error
    const sentence = `${(error as CoreError).message} Its files are shown as far as they lie inside.`
    findings.push({ severity: 'damage', code: 'volume.cut-off', sentence, evidence: `Recognised as ${driver.name}` })
    return cutOff
  }
}

/** A volume of a known kind whose records do not hold: every sector of it counts. */
function damagedVolume(driver: FileSystemDriver, sizeBytes: number): VolumeSurvey {
  return {
    kind: driver.kind,
    name: driver.name,
    label: '',
    serial: '',
    clusterSize: 512,
    totalBytes: sizeBytes,
    usedBytes: sizeBytes,
    smallestBytes: sizeBytes,
    state: 'damaged',
    depth: 'sealed',
    encrypted: false,
    everySector: 'Its own records are damaged.',
    canGrow: false,
    canShrink: false,
    anySectors: false,
  }
}
