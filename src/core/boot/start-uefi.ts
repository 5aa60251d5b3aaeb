import { crcText } from '../bytes/crc32'
import { shortGuid } from '../bytes/guid'
import { formatSize, groupDigits } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import type { GptReading } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { Stop } from './chain'
import { followWindows } from './start-windows'
import { FALLBACK_PATH, UEFI_STORE_PATH } from './systems'
import { type AttachedDrive, type Candidate, checkFile, sizeOf, sliceOf, type Start, type Started } from './start'
import type { Firmware } from './types'

/** From the firmware's entry to the system, by UEFI. */
export async function followUefi(start: Start): Promise<Started> {
  const { chain, firmware, candidates, reference, digest } = start
  const { candidate, gpt: reading, entry, path } = chooseEntry(firmware, candidates)
  const { drive } = candidate
  chain.pass(
    `UEFI, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
    entry
      ? `Boot entry ${entry.id} names partition ${shortGuid(entry.partitionGuid)} on ${drive.name}, ${drive.slot}`
      : `No boot entry holds; the fallback path is looked for on ${drive.name}, ${drive.slot}`,
  )
  passTable(start, drive, reading)
  const { partition, volume } = await openEsp(drive, reading, entry?.partitionGuid)
  chain.pass(
    `${volume.name}, ${formatSize(sizeOf(partition, drive.device))}, ${volume.state}`,
    `Found by its type, partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
  )
  const loader = path.replaceAll('\\', '/')
  const wanted = reference?.loaders.find((l) => l.path.toUpperCase() === loader.toUpperCase())?.digest
  const { equal, evidence } = await checkFile(volume, loader, wanted, digest, {
    found: 'the loader file is missing',
    why: 'The place that the firmware was told holds no loader.',
  })
  const alone = reference ? 'found; the source has no such file to compare' : 'found; its signature was not looked at'
  chain.pass(equal ? 'same bytes as the source, its signature with them' : alone, evidence)
  const hasStore = (await volume.stat(UEFI_STORE_PATH))?.kind === 'file'
  const windows = hasStore || /\/microsoft\//i.test(loader) || reference?.systemLoaderPath
  if (!windows) {
    chain.restUnproved(
      'not followed further',
      `${loader} is not a loader whose settings are known here`,
      'Up to its loader everything holds; what that does next is its own.',
    )
    return { driveId: drive.driveId }
  }
  return followWindows(start, candidate, volume, UEFI_STORE_PATH)
}

/** The boot entry that holds, in the firmware's order, or the drive with the fallback path. */
function chooseEntry(firmware: Firmware, candidates: readonly Candidate[]) {
  const tried: string[] = []
  const fitting = candidates.flatMap((c) => (c.reading.scheme === 'gpt' ? [{ candidate: c, gpt: c.reading.gpt }] : []))
  if (fitting.length === 0) {
    const [{ drive }] = candidates
    throw new Stop(
      `${drive.name} has no GPT`,
      `${drive.slot}: its table is an MBR`,
      'Firmware by UEFI alone does not start from an MBR. It was made for a computer that starts by BIOS.',
    )
  }
  for (const id of firmware.bootOrder) {
    const entry = firmware.bootEntries.find((e) => e.id === id)
    if (!entry) {
      tried.push(`${id} is in the order and there is no such entry`)
      continue
    }
    const found = fitting.find((c) => c.gpt.table.partitions.some((p) => p.guid === entry.partitionGuid))
    if (found) return { ...found, entry, path: entry.path }
    tried.push(`${id} names partition ${shortGuid(entry.partitionGuid)}, which is not here`)
  }
  for (const one of fitting) {
    const esp = one.gpt.table.partitions.find((p) => p.typeGuid === TYPE_GUIDS.efiSystem)
    if (esp) return { ...one, entry: undefined, path: FALLBACK_PATH }
  }
  throw new Stop(
    'nothing to start from',
    [...tried, 'no EFI system partition on any drive'].join('; '),
    'No boot entry names a partition that is here, and no drive has an EFI system partition for the fallback path.',
  )
}

function passTable({ chain }: Start, drive: AttachedDrive, reading: GptReading): void {
  const { primary, backup } = reading
  const agree = primary.table && backup.table && primary.entriesCrc === backup.entriesCrc
  const crc = crcText((primary.entriesCrc ?? backup.entriesCrc)!)
  const lastLba = drive.device.size / drive.device.logicalSectorSize - 1
  const place = backup.lba === lastLba ? 'at the last sector' : `at sector ${groupDigits(backup.lba)}, not the last`
  chain.pass(
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
