import { type BlockDevice, readBytes } from '../block/device'
import { SliceDevice } from '../block/slice'
import { crcText } from '../bytes/crc32'
import { shortGuid } from '../bytes/guid'
import { formatSize, groupDigits } from '../bytes/size'
import { readMarker } from '../copy/marker'
import { type Digest, shortDigest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { type GptReading, readGpt } from '../scheme/gpt'
import { type GptPartition, TYPE_GUIDS } from '../scheme/types'
import { FALLBACK_PATH, KNOWN_SYSTEMS } from './systems'
import { type Firmware, type Trace, TRACE_LINKS, type TraceLink, type TraceReference } from './types'

/** A drive in one of the computer's slots, in the order in which the firmware looks. */
export interface AttachedDrive {
  readonly driveId: string
  /** Model and capacity, as on its plate. */
  readonly name: string
  readonly slot: string
  readonly device: BlockDevice
}

/** Ends the chain: the link that could not be passed. */
class Stop extends Error {
  constructor(
    readonly found: string,
    readonly evidence: string,
    readonly why: string,
  ) {
    super(found)
  }
}

interface Candidate {
  readonly drive: AttachedDrive
  readonly reading: GptReading
}

/**
 * Follows a UEFI start link by link on the bytes of the drives in a computer's slots: boot entry or fallback
 * path, partition table, EFI system partition, loader file, system volume, its loader file. `reference` says
 * what the source held, so that files are compared and not merely found. Stops at the first link that fails.
 */
export async function traceStart(
  firmware: Firmware,
  drives: readonly AttachedDrive[],
  reference: TraceReference | undefined,
  digest: Digest,
): Promise<Trace> {
  const links: TraceLink[] = []
  let startedFrom: string | undefined
  let systemPartitionGuid: string | undefined
  const pass = (found: string, evidence: string) => {
    const [id, title] = TRACE_LINKS[links.length]
    links.push({ id, title, state: 'passed', found, evidence })
  }
  try {
    const candidates = await readTables(firmware, drives)
    const { drive, reading, entry, path } = await chooseEntry(firmware, candidates)
    pass(
      `UEFI, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
      entry
        ? `Boot entry ${entry.id} names partition ${shortGuid(entry.partitionGuid)} on ${drive.name}, ${drive.slot}`
        : `No boot entry holds; the fallback path is looked for on ${drive.name}, ${drive.slot}`,
    )
    passTable(reading, drive, pass)
    const { partition, volume } = await openEsp(drive, reading, entry?.partitionGuid)
    pass(
      `${volume.name}, ${formatSize(sizeOf(partition, drive.device))}, ${volume.state}`,
      `Found by its type, partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
    )
    pass(...(await checkLoader(volume, path, reference, digest)))
    const system = await findSystemVolume(drive, reading, reference)
    systemPartitionGuid = system.partition.guid
    pass(
      `${system.volume.label || 'System'}, ${system.volume.name}, ${formatSize(sizeOf(system.partition, drive.device))}`,
      `Partition ${system.partition.number}, GUID ${shortGuid(system.partition.guid)}${reference ? ', as on the source' : ''}; ${system.volume.state}`,
    )
    pass(...(await checkSystemLoader(system.volume, reference, digest)))
    startedFrom = drive.driveId
  } catch (error) {
    if (!(error instanceof Stop) && !(error instanceof CoreError)) throw error
    const [id, title] = TRACE_LINKS[links.length]
    links.push({
      id,
      title,
      state: 'failed',
      found: error instanceof Stop ? error.found : 'cannot be read',
      evidence: error instanceof Stop ? error.evidence : error.message,
      why: error instanceof Stop ? error.why : 'What is on the drive contradicts itself, so the start ends here.',
    })
  }
  for (const [id, title] of TRACE_LINKS.slice(links.length))
    links.push({ id, title, state: 'not-reached', found: 'not reached', evidence: '' })
  return { links, starts: startedFrom !== undefined, startedFrom, systemPartitionGuid }
}

async function readTables(firmware: Firmware, drives: readonly AttachedDrive[]): Promise<Candidate[]> {
  if (firmware.mode !== 'uefi') {
    throw new Stop('BIOS', `Firmware mode ${firmware.mode}`, 'Only a start by UEFI can be followed so far.')
  }
  if (drives.length === 0) {
    throw new Stop('no drive to start from', 'All slots are empty', 'There is no drive in any slot of this computer.')
  }
  const candidates: Candidate[] = []
  let trouble: Stop | undefined
  for (const drive of drives) {
    const marker = await readMarker(drive.device)
    if (marker) {
      trouble ??= new Stop(
        `${drive.name} holds an unfinished copy`,
        marker.note,
        'A copy to this drive did not end, so it is marked and not started from. Go on with it in Copy, or copy to it again.',
      )
      continue
    }
    try {
      const reading = await readGpt(drive.device)
      if (reading) candidates.push({ drive, reading })
      else {
        trouble ??= new Stop(
          `${drive.name} holds no partition table`,
          `${drive.slot}: neither the second nor the last sector carries a GPT`,
          'Nothing was copied to this drive yet, or its table is gone.',
        )
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      trouble ??= new Stop(
        `the table of ${drive.name} is damaged`,
        error.message,
        'No copy of the partition table can be used.',
      )
    }
  }
  if (candidates.length === 0) throw trouble!
  for (const [i, a] of candidates.entries()) {
    const twin = candidates.slice(i + 1).find((b) => b.reading.table.diskGuid === a.reading.table.diskGuid)
    if (twin) {
      throw new Stop(
        'two drives carry one identity',
        `${a.drive.name} in ${a.drive.slot} and ${twin.drive.name} in ${twin.drive.slot}: disk GUID ${shortGuid(a.reading.table.diskGuid)}`,
        'A system that sees both may renumber one of them and not start again. Take one of the two out.',
      )
    }
  }
  return candidates
}

/** The boot entry that holds, in the firmware's order, or the drive with the fallback path. */
async function chooseEntry(firmware: Firmware, candidates: readonly Candidate[]) {
  const tried: string[] = []
  for (const id of firmware.bootOrder) {
    const entry = firmware.bootEntries.find((e) => e.id === id)
    if (!entry) continue
    const found = candidates.find((c) => c.reading.table.partitions.some((p) => p.guid === entry.partitionGuid))
    if (found) return { ...found, entry, path: entry.path }
    tried.push(`${id} names partition ${shortGuid(entry.partitionGuid)}, which is not here`)
  }
  for (const candidate of candidates) {
    const esp = candidate.reading.table.partitions.find((p) => p.typeGuid === TYPE_GUIDS.efiSystem)
    if (esp) return { ...candidate, entry: undefined, path: FALLBACK_PATH }
  }
  throw new Stop(
    'nothing to start from',
    [...tried, 'no EFI system partition on any drive'].join('; '),
    'No boot entry names a partition that is here, and no drive has an EFI system partition for the fallback path.',
  )
}

function passTable(reading: GptReading, drive: AttachedDrive, pass: (found: string, evidence: string) => void): void {
  const { primary, backup } = reading
  const agree = primary.table && backup.table && primary.entriesCrc === backup.entriesCrc
  const crc = crcText((primary.entriesCrc ?? backup.entriesCrc)!)
  const lastLba = drive.device.size / drive.device.logicalSectorSize - 1
  const place = backup.lba === lastLba ? 'at the last sector' : `at sector ${groupDigits(backup.lba)}, not the last`
  pass(
    agree ? 'GPT, both copies agree' : `GPT, taken from the ${reading.from} copy`,
    `Entries CRC ${crc}${agree ? ' in both' : ''}; backup ${backup.table ? place : backup.fault}`,
  )
}

async function openEsp(drive: AttachedDrive, reading: GptReading, guid: string | undefined) {
  const partition = reading.table.partitions.find((p) => (guid ? p.guid === guid : p.typeGuid === TYPE_GUIDS.efiSystem))
  if (!partition || partition.typeGuid !== TYPE_GUIDS.efiSystem) {
    throw new Stop(
      'not an EFI system partition',
      `Partition ${partition?.number ?? '?'} has the type ${partition?.typeGuid ?? 'unknown'}`,
      'The boot entry names a partition of another type, which firmware does not start from.',
    )
  }
  const volume = await openFileSystem(sliceOf(drive.device, partition))
  if (!volume || !volume.kind.startsWith('fat')) {
    throw new Stop(
      volume ? `${volume.name}, which firmware cannot read` : 'no file system in it',
      `Partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
      'Firmware reads FAT only.',
    )
  }
  return { partition, volume }
}

async function checkLoader(
  volume: FileSystem,
  path: string,
  reference: TraceReference | undefined,
  digest: Digest,
): Promise<[string, string]> {
  const file = await volume.stat(path)
  if (file?.kind !== 'file') {
    throw new Stop('the loader file is missing', path, 'The place that the firmware was told holds no loader.')
  }
  const hash = toHex(digest(await volume.readFile(path)))
  const size = `${groupDigits(file.sizeBytes)} bytes, SHA-256 ${shortDigest(hash)}`
  if (!reference) return ['found', `${path}, ${size}`]
  const wanted = reference.loaders.find((l) => l.path.toUpperCase() === path.replaceAll('\\', '/').toUpperCase())
  if (!wanted) return ['found; the source has no such file to compare', `${path}, ${size}`]
  if (wanted.digest !== hash) {
    throw new Stop(
      'the loader is not the one of the source',
      `${path}, ${size}; source ${shortDigest(wanted.digest)}`,
      'Its bytes differ from those that were surveyed, so its signature may not hold either.',
    )
  }
  return ['same bytes as the source, its signature with them', `${path}, ${size}, equal`]
}

async function findSystemVolume(drive: AttachedDrive, reading: GptReading, reference: TraceReference | undefined) {
  const { partitions } = reading.table
  if (reference) {
    const partition = partitions.find((p) => p.guid === reference.systemPartitionGuid)
    if (!partition) {
      throw new Stop(
        'the system volume is not on this drive',
        `No partition has the GUID ${shortGuid(reference.systemPartitionGuid)}`,
        'Boot settings name the system volume by its GUID, and no partition here carries it.',
      )
    }
    return { partition, volume: await openSystem(drive, partition) }
  }
  for (const partition of partitions) {
    const volume = await openFileSystem(sliceOf(drive.device, partition))
    for (const { loaderPath } of KNOWN_SYSTEMS) {
      if (volume && (await volume.stat(loaderPath))) return { partition, volume }
    }
  }
  throw new Stop('no system volume', `${partitions.length} partitions read`, 'No volume on this drive holds a system.')
}

async function openSystem(drive: AttachedDrive, partition: GptPartition): Promise<FileSystem> {
  const slice = sliceOf(drive.device, partition)
  const volume = await openFileSystem(slice)
  if (volume) return volume
  const head = toHex((await readBytes(slice, 0, 8)).slice())
  throw new Stop(
    'no file system in the system volume',
    `Partition ${partition.number} begins with ${head}`,
    'The partition is there, but what is in it is not a volume.',
  )
}

async function checkSystemLoader(
  volume: FileSystem,
  reference: TraceReference | undefined,
  digest: Digest,
): Promise<[string, string]> {
  const path = reference?.systemLoaderPath ?? KNOWN_SYSTEMS[0].loaderPath
  const file = await volume.stat(path)
  if (file?.kind !== 'file') {
    throw new Stop(
      'the system’s loader is missing',
      path,
      'The boot loader would find its volume, but nothing to start on it.',
    )
  }
  const hash = toHex(digest(await volume.readFile(path)))
  const evidence = `${path}, ${groupDigits(file.sizeBytes)} bytes, SHA-256 ${shortDigest(hash)}`
  if (reference && reference.systemLoaderDigest !== hash) {
    throw new Stop(
      'the system’s loader is not the one of the source',
      `${evidence}; source ${shortDigest(reference.systemLoaderDigest)}`,
      'Its bytes differ from those that were surveyed.',
    )
  }
  return [reference ? 'same bytes as the source' : 'found', reference ? `${evidence}, equal` : evidence]
}

function sliceOf(device: BlockDevice, partition: GptPartition): SliceDevice {
  const sector = device.logicalSectorSize
  return new SliceDevice(device, partition.firstLba * sector, sizeOf(partition, device))
}

function sizeOf(partition: GptPartition, device: BlockDevice): number {
  return (partition.lastLba - partition.firstLba + 1) * device.logicalSectorSize
}
