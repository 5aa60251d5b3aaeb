import { type BlockDevice, readBytes } from '../block/device'
import { SliceDevice } from '../block/slice'
import { shortGuid } from '../bytes/guid'
import { groupDigits } from '../bytes/size'
import { type Digest, shortDigest, toHex } from '../digest'
import { CoreError } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import type { SchemeReading } from '../scheme'
import type { TablePartition } from '../scheme/types'
import { type Chain, BootFailure } from './chain'
import type { Firmware, TraceReference } from './types'

// What the links of every start share.

/** A drive in one of the computer's slots, in the order in which the firmware looks. */
export interface AttachedDrive {
  readonly driveId: string
  /** Model and capacity, as on its plate. */
  readonly name: string
  readonly slot: string
  readonly device: BlockDevice
  /** Drivers that serve the controller it sits at, by their service names; absent where that is not known. */
  readonly drivers?: readonly string[]
}

/** A drive that firmware can look at. */
export interface Candidate {
  readonly drive: AttachedDrive
  readonly reading: Exclude<SchemeReading, { scheme: 'damaged' }>
}

/** What the links of a start share. */
export interface Start {
  readonly chain: Chain
  readonly firmware: Firmware
  readonly candidates: readonly Candidate[]
  readonly reference: TraceReference | undefined
  readonly digest: Digest
  /** The system that is chosen: the number of its partition. Where nothing is said, the one that starts by itself. */
  readonly system?: number
}

/** Drives as the firmware looks at them: those of the slots that it names first, then the others as they are wired. */
export function inOrder<D extends { readonly slot: string }>({ driveOrder }: Firmware, drives: readonly D[]): D[] {
  const rank = ({ slot }: D) => (driveOrder.includes(slot) ? driveOrder.indexOf(slot) : driveOrder.length)
  return [...drives].sort((a, b) => rank(a) - rank(b))
}

/** What the last link of a start came to. */
export interface Started {
  readonly driveId: string
  readonly systemPartitionGuid?: string
  /** The drive that the system's volume is on, which may be another than its boot settings. */
  readonly systemDriveId?: string
  /** Number of the system's partition; absent where the start was not followed so far. */
  readonly systemPartition?: number
}

/** Ends a start that leads to another system than the one that was chosen. */
export function expectSystem({ system }: Start, leadsTo: number | undefined, evidence: string): void {
  if (system === undefined || system === leadsTo) return
  throw new BootFailure(
    leadsTo === undefined ? 'not known which system it starts' : `starts the system on partition ${leadsTo}`,
    evidence,
    `What starts the system on partition ${system} was asked for, and this does not.`,
  )
}

/** What a disk is told apart by: the GUID of a GPT, the signature of an MBR. */
export function identityOf(reading: Candidate['reading']): string {
  return reading.scheme === 'gpt' ? reading.gpt.table.diskGuid : reading.mbr.diskSignature
}

export function identityWords(reading: Candidate['reading']): string {
  const identity = identityOf(reading)
  return reading.scheme === 'gpt' ? `disk GUID ${shortGuid(identity)}` : `disk signature ${identity.toUpperCase()}`
}

export function sizeOf(partition: TablePartition, device: BlockDevice): number {
  return (partition.lastLba - partition.firstLba + 1) * device.logicalSectorSize
}

export function sliceOf(device: BlockDevice, partition: TablePartition): SliceDevice {
  return new SliceDevice(device, partition.firstLba * device.logicalSectorSize, sizeOf(partition, device))
}

/** The volume on a partition. Throws BootFailure where there is none. */
export async function volumeOn(device: BlockDevice, partition: TablePartition): Promise<FileSystem> {
  const slice = sliceOf(device, partition)
  const volume = await openFileSystem(slice)
  if (volume) return volume
  const head = toHex((await readBytes(slice, 0, 8)).slice())
  throw new BootFailure(
    `no file system in partition ${partition.number}`,
    `It begins with ${head}, at sector ${groupDigits(partition.firstLba)}`,
    'The partition is there, but what is in it is not a volume.',
  )
}

/** A loader is a few megabytes; a longer file under its name is something else. */
const MAX_FILE_BYTES = 64 * 1024 * 1024

/** Looks at one file of a start. `wanted` is the digest that the source's had. Throws BootFailure. */
export async function checkFile(
  volume: FileSystem,
  path: string,
  wanted: string | undefined,
  digest: Digest,
  missing: { readonly found: string; readonly why: string; readonly repairs?: readonly string[] },
): Promise<{ readonly equal: boolean; readonly evidence: string; readonly bytes: Uint8Array }> {
  const file = await volume.stat(path)
  if (file?.kind !== 'file') throw new BootFailure(missing.found, path, missing.why, missing.repairs)
  if (file.sizeBytes > MAX_FILE_BYTES) {
    throw new BootFailure(
      `${path} is no loader`,
      `${groupDigits(file.sizeBytes)} bytes`,
      'What stands at the loader’s place is far longer than any loader.',
    )
  }
  const bytes = await volume.readFile(path)
  const hash = toHex(digest(bytes))
  const evidence = `${path}, ${groupDigits(file.sizeBytes)} bytes, SHA-256 ${shortDigest(hash)}`
  if (wanted && wanted !== hash) {
    throw new BootFailure(
      'the loader is not the one of the source',
      `${evidence}; source ${shortDigest(wanted)}`,
      'Its bytes differ from those that were surveyed, so its signature may not hold either.',
    )
  }
  return { equal: wanted !== undefined, evidence: wanted ? `${evidence}, equal` : evidence, bytes }
}

/** Reads what may be damaged; damage ends the chain with this sentence. */
export async function orStop<T>(
  work: () => Promise<T>,
  found: string,
  why: string,
  repairs: readonly string[] = [],
): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    throw new BootFailure(found, error.message, why, repairs)
  }
}
