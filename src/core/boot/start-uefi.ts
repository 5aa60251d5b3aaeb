import { crcText } from '../bytes/crc32'
import { shortGuid } from '../bytes/guid'
import { formatSize, groupDigits } from '../bytes/size'
import { CoreError, orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import type { GptReading } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { FALLBACK_PATH, KNOWN_SYSTEMS, UEFI_STORE_PATH } from '../survey/known-systems'
import { BootFailure } from './chain'
import { type Judgement, judgeSignature, readSignature, type Signature } from './signature'
import { type AttachedDrive, type Candidate, checkFile, sizeOf, sliceOf, type Start, type Started } from './start'
import { followOther, followStartVolume, rootNamed } from './start-other'
import { followWindows } from './start-windows'
import type { Firmware } from './types'

/** From the firmware's entry to the system, by UEFI. */
export async function followUefi(start: Start): Promise<Started> {
  const { chain, firmware, reference, digest } = start
  const choice = await chooseEntry(start)
  if ('stop' in choice) {
    const started = await followStartVolume(start, [choice.stop.evidence])
    if (!started) throw passUpTo(start, choice)
    return started
  }
  const { candidate, gpt: reading, esp: guid, entry, path, tried } = choice
  const { drive } = candidate
  const before = tried.length > 0 ? `${tried.join('; ')}; ` : ''
  chain.pass(
    `UEFI, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
    entry
      ? `${before}${before ? 'b' : 'B'}oot entry ${entry.id} names partition ${shortGuid(entry.partitionGuid)} on ${drive.name}, ${drive.slot}`
      : `${before}${before ? 'n' : 'N'}o boot entry holds; the fallback path is on ${drive.name}, ${drive.slot}`,
  )
  passTable(start, drive, reading)
  const { partition, volume } = await openEsp(drive, reading, guid)
  passPartition(start, drive, partition, volume)
  const loader = path.replaceAll('\\', '/')
  const wanted = reference?.loaders.find((l) => l.path.toUpperCase() === loader.toUpperCase())?.digest
  const { equal, evidence, bytes } = await checkFile(volume, loader, wanted, digest, {
    found: 'the loader file is missing',
    why: 'The place that the firmware was told holds no loader.',
    repairs: ['boot-entry'],
  })
  const signed = judged(firmware, readSignature(bytes, digest), evidence)
  const [same, other] = reference?.ownLoaders
    ? ['same bytes as before', 'found; it was not there before']
    : ['same bytes as the source', 'found; the source has no such file']
  const words = equal ? same : reference ? other : 'found'
  if (signed.accepts) chain.pass(`${words}, ${signed.found}`, evidence)
  else chain.unproved(`${words}, ${signed.found}`, evidence, signed.why)
  const hasStore = (await volume.stat(UEFI_STORE_PATH))?.kind === 'file'
  const windows = hasStore || /\/microsoft\//i.test(loader) || (await looksForStore(candidate, volume, loader))
  if (windows || reference?.systemLoaderPath) return followWindows(start, candidate, volume, UEFI_STORE_PATH)
  return followOther(start, candidate, volume, loader)
}

/** What Secure Boot makes of a loader. Throws BootFailure where it refuses it. */
function judged(firmware: Firmware, signature: Signature, evidence: string): Exclude<Judgement, { accepts: false }> {
  const judgement = judgeSignature(firmware, signature)
  if (judgement.accepts !== false) return judgement
  const by = 'signer' in signature ? `; signed by “${signature.signer}”` : ''
  throw new BootFailure(`Secure Boot refuses it: ${judgement.found}`, `${evidence}${by}`, judgement.why)
}

/**
 * Whether a loader that could be anybody's is one that looks for boot settings, although there are none: the system
 * whose loader it is lies beside it or on the drive, and no other loader's settings are there.
 */
async function looksForStore({ drive, reading }: Candidate, esp: FileSystem, loader: string): Promise<boolean> {
  if (await rootNamed(esp, loader)) return false
  const folder = UEFI_STORE_PATH.split('/').slice(0, -1).join('/')
  if ((await esp.stat(folder).catch(orUndefined))?.kind === 'directory') return true
  for (const partition of reading.partitions) {
    const volume = await openFileSystem(sliceOf(drive.device, partition)).catch(orUndefined)
    if (volume?.depth !== 'files') continue
    for (const { loaderPath } of KNOWN_SYSTEMS) {
      if ((await volume.stat(loaderPath).catch(orUndefined))?.kind === 'file') return true
    }
  }
  return false
}

/** What a firmware that found nothing to start had looked at, as far as it holds; then why it ends there. */
function passUpTo(start: Start, { stop, tried, at }: NothingToStart): BootFailure {
  if (!at) return stop
  const { chain, firmware } = start
  chain.pass(`UEFI, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`, tried.join('; ') || 'no boot entry is set')
  passTable(start, at.drive, at.gpt)
  if (at.esp) passPartition(start, at.drive, at.esp.partition, at.esp.volume)
  return stop
}

interface Esp {
  readonly partition: GptReading['table']['partitions'][number]
  readonly volume: FileSystem
}

/** What the firmware starts. */
interface ChosenEntry {
  readonly candidate: Candidate
  readonly gpt: GptReading
  readonly esp: string
  /** Undefined for the fallback path. */
  readonly entry: Firmware['bootEntries'][number] | undefined
  readonly path: string
  readonly tried: readonly string[]
}

/** Nothing to start: why, what was tried in order, and where it ends. */
interface NothingToStart {
  readonly stop: BootFailure
  readonly tried: readonly string[]
  readonly at?: { readonly drive: AttachedDrive; readonly gpt: GptReading; readonly esp?: Esp }
}

/**
 * What the firmware starts: each boot entry in its order whose partition is here and holds the file it names, then the
 * fallback path on any EFI system partition. `tried` says of each that was passed over why.
 */
async function chooseEntry({ firmware, candidates }: Start): Promise<ChosenEntry | NothingToStart> {
  const tried: string[] = []
  const fitting = candidates.flatMap((c) => (c.reading.scheme === 'gpt' ? [{ candidate: c, gpt: c.reading.gpt }] : []))
  if (fitting.length === 0) {
    const [{ drive }] = candidates
    throw new BootFailure(
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
    if (!found) {
      tried.push(`${id} names partition ${shortGuid(entry.partitionGuid)}, which is not here`)
      continue
    }
    const partition = found.gpt.table.partitions.find((p) => p.guid === entry.partitionGuid)!
    const file = await fileOn(found.candidate, partition, entry.path.replaceAll('\\', '/'))
    if (file.there || file.unsure) return { ...found, esp: entry.partitionGuid, entry, path: entry.path, tried }
    tried.push(`${id}: ${file.words}`)
  }
  const without: { words: string; at: NonNullable<NothingToStart['at']> }[] = []
  for (const { candidate, gpt } of fitting) {
    for (const partition of gpt.table.partitions) {
      if (partition.typeGuid !== TYPE_GUIDS.efiSystem) continue
      const file = await fileOn(candidate, partition, FALLBACK_PATH)
      if (file.there) return { candidate, gpt, esp: partition.guid, entry: undefined, path: FALLBACK_PATH, tried }
      const esp = file.volume && { partition, volume: file.volume }
      without.push({ words: file.words, at: { drive: candidate.drive, gpt, ...(esp ? { esp } : {}) } })
    }
  }
  const all = [...tried, ...without.map((w) => w.words)]
  const nothing = 'nothing to start from'
  if (without.length === 0) {
    const evidence = [...tried, 'no EFI system partition on any drive'].join('; ')
    const why =
      'No boot entry names a partition that is here, and no drive has an EFI system partition for the fallback path.'
    const [{ candidate, gpt }] = fitting
    return { stop: new BootFailure(nothing, evidence, why, ['new-esp']), tried, at: { drive: candidate.drive, gpt } }
  }
  const why = `No boot entry leads to a loader, and no EFI system partition holds ${FALLBACK_PATH}, which firmware tries last.`
  const stop = new BootFailure(nothing, all.join('; '), why, ['boot-entry', 'fallback-loader', 'new-store'])
  return { stop, tried, at: without[0].at }
}

/** Whether a partition holds a file that the firmware can start; `unsure` where its volume does not let it be told. */
async function fileOn({ drive }: Candidate, partition: Esp['partition'], path: string) {
  const where = `partition ${partition.number} of ${drive.name}`
  try {
    const volume = await openFileSystem(sliceOf(drive.device, partition))
    if (!volume?.kind.startsWith('fat')) return { there: false, unsure: true, words: `${where} is no FAT volume` }
    const there = (await volume.stat(path))?.kind === 'file'
    return { there, unsure: false, words: `${where} has no ${path}`, volume }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { there: false, unsure: true, words: `${where}: ${error.message}` }
  }
}

function passPartition({ chain }: Start, { device }: AttachedDrive, partition: Esp['partition'], volume: FileSystem) {
  chain.pass(
    `${volume.name}, ${formatSize(sizeOf(partition, device))}, ${volume.state}`,
    `Found by its type, partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
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
    throw new BootFailure(
      'not an EFI system partition',
      `Partition ${partition?.number ?? '?'} has the type ${partition?.typeGuid ?? 'unknown'}`,
      'The boot entry names a partition of another type, which firmware does not start from.',
    )
  }
  const volume = await openFileSystem(sliceOf(drive.device, partition))
  if (!volume || !volume.kind.startsWith('fat')) {
    throw new BootFailure(
      volume ? `${volume.name}, which firmware cannot read` : 'no file system in it',
      `Partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}`,
      'Firmware reads FAT only.',
    )
  }
  return { partition, volume }
}
