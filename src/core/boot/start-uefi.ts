import { crcText } from '../bytes/crc32'
import { shortGuid } from '../bytes/guid'
import { formatSize, groupDigits } from '../bytes/size'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import type { GptReading } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { Stop } from './chain'
import { readSignature, type Signature } from './signature'
import { followOther, followStartVolume } from './start-other'
import { followWindows } from './start-windows'
import { FALLBACK_PATH, UEFI_STORE_PATH } from './systems'
import { type AttachedDrive, type Candidate, checkFile, sizeOf, sliceOf, type Start, type Started } from './start'
import type { Firmware } from './types'

/** From the firmware's entry to the system, by UEFI. */
export async function followUefi(start: Start): Promise<Started> {
  const { chain, firmware, reference, digest } = start
  const choice = await chooseEntry(start)
  if (choice instanceof Stop) {
    const started = await followStartVolume(start, [choice.evidence])
    if (!started) throw choice
    return started
  }
  const { candidate, gpt: reading, esp: guid, entry, path } = choice
  const { drive } = candidate
  chain.pass(
    `UEFI, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
    entry
      ? `Boot entry ${entry.id} names partition ${shortGuid(entry.partitionGuid)} on ${drive.name}, ${drive.slot}`
      : `No boot entry holds; the fallback path is on ${drive.name}, ${drive.slot}`,
  )
  passTable(start, drive, reading)
  const { partition, volume } = await openEsp(drive, reading, guid)
  chain.pass(
    `${volume.name}, ${formatSize(sizeOf(partition, drive.device))}, ${volume.state}`,
    `Found by its type, partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
  )
  const loader = path.replaceAll('\\', '/')
  const wanted = reference?.loaders.find((l) => l.path.toUpperCase() === loader.toUpperCase())?.digest
  const { equal, evidence, bytes } = await checkFile(volume, loader, wanted, digest, {
    found: 'the loader file is missing',
    why: 'The place that the firmware was told holds no loader.',
    repairs: ['boot-entry'],
  })
  const signed = signatureWords(firmware, readSignature(bytes, digest), evidence)
  const words = equal ? 'same bytes as the source' : reference ? 'found; the source has no such file' : 'found'
  if (signed.proved) chain.pass(`${words}, ${signed.words}`, evidence)
  else
    chain.unproved(
      `${words}, ${signed.words}`,
      evidence,
      'Firmware checks it against its own keys, which are not here.',
    )
  const hasStore = (await volume.stat(UEFI_STORE_PATH))?.kind === 'file'
  const windows = hasStore || /\/microsoft\//i.test(loader)
  if (windows || reference?.systemLoaderPath) return followWindows(start, candidate, volume, UEFI_STORE_PATH)
  return followOther(start, candidate, volume, loader)
}

/** What a loader's signature comes to under Secure Boot. Throws Stop where that refuses it. */
function signatureWords(
  { secureBoot, trustedSigners }: Firmware,
  signature: Signature,
  evidence: string,
): { readonly words: string; readonly proved: boolean } {
  const by = 'signer' in signature ? `signed by “${signature.signer}”` : ''
  if (!secureBoot) return { words: by || 'Secure Boot does not ask for a signature', proved: true }
  if (signature.state === 'foreign') return { words: 'signed in a way that is not checked here', proved: false }
  const refuse = (found: string, why: string) => new Stop(found, `${evidence}${by ? `; ${by}` : ''}`, why)
  if (signature.state === 'none')
    throw refuse(
      'Secure Boot refuses it: it is not signed',
      'With Secure Boot on, firmware starts signed loaders only.',
    )
  if (signature.state === 'broken')
    throw refuse(
      'Secure Boot refuses it: its signature does not hold',
      'Its bytes are not those that were signed. The file was changed or damaged after that.',
    )
  if (!trustedSigners.includes(signature.signer))
    throw refuse(
      'Secure Boot refuses it: its signer is not trusted',
      `The firmware trusts ${trustedSigners.map((s) => `“${s}”`).join(' and ') || 'nobody'}. What it trusts is in its settings.`,
    )
  return { words: `${by}, which the firmware trusts`, proved: true }
}

/** The boot entry that holds, in the firmware's order, or the drive with the fallback file; or why there is none. */
async function chooseEntry({ firmware, candidates }: Start) {
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
    if (found) return { ...found, esp: entry.partitionGuid, entry, path: entry.path }
    tried.push(`${id} names partition ${shortGuid(entry.partitionGuid)}, which is not here`)
  }
  const without: Awaited<ReturnType<typeof fallbackOn>>[] = []
  for (const one of fitting) {
    for (const partition of one.gpt.table.partitions) {
      if (partition.typeGuid !== TYPE_GUIDS.efiSystem) continue
      const fallback = await fallbackOn(one.candidate, partition)
      const found = { ...one, esp: partition.guid, entry: undefined, path: FALLBACK_PATH }
      if (fallback.there) return found
      without.push(fallback)
    }
  }
  if (without.length === 0) {
    return new Stop(
      'nothing to start from',
      [...tried, 'no EFI system partition on any drive'].join('; '),
      'No boot entry names a partition that is here, and no drive has an EFI system partition for the fallback path.',
    )
  }
  return new Stop(
    'nothing to start from',
    [...tried, ...without.map((w) => w.words)].join('; '),
    `No boot entry names a partition that is here, and no EFI system partition holds ${FALLBACK_PATH}, which firmware tries last.`,
    ['boot-entry', 'fallback-loader'],
  )
}

async function fallbackOn({ drive }: Candidate, partition: GptReading['table']['partitions'][number]) {
  const where = `partition ${partition.number} of ${drive.name}`
  try {
    const volume = await openFileSystem(sliceOf(drive.device, partition))
    const there = volume?.kind.startsWith('fat') && (await volume.stat(FALLBACK_PATH))?.kind === 'file'
    return { there: Boolean(there), words: `${where} has no ${FALLBACK_PATH}` }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { there: false, words: `${where}: ${error.message}` }
  }
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
