import type { Digest } from '../digest'
import { orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { readScheme } from '../scheme'
import { TYPE_GUIDS } from '../scheme/types'
import { readMarker } from '../survey/marker'
import { Chain, BootFailure } from './chain'
import { type AttachedDrive, type Candidate, identityOf, identityWords, inOrder, sliceOf, type Start } from './start'
import { followBios } from './start-bios'
import { followUefi } from './start-uefi'
import { type Firmware, type Trace, TRACE_LINKS, type TraceReference } from './types'

/**
 * Follows a start link by link on the bytes of the drives in a computer's slots, as its firmware, the loader and the
 * system would (UEFI 2.10, section 3; the BIOS way as PCs have it). `reference` says what the source held, so that
 * files are compared and not merely found. Stops at the first link that fails; nothing is written.
 */
export async function traceBoot(
  firmware: Firmware,
  drives: readonly AttachedDrive[],
  reference: TraceReference | undefined,
  digest: Digest,
  /** The system that is chosen, by its partition's number; the one that starts by itself where nothing is said. */
  system?: number,
): Promise<Trace> {
  const first = await traceOnce(firmware, drives, { reference, digest, system })
  if (system === undefined || first.starts || firmware.mode === 'bios') return first
  // Another loader that is there may lead to it.
  const named = first.links.find((l) => l.state === 'failed')?.repairs?.includes('system-entry')
  for (const entry of await loaderEntries(drives)) {
    const asChosen = { ...firmware, bootEntries: [entry], bootOrder: [entry.id] }
    const trace = await traceOnce(asChosen, drives, { reference, digest, system })
    const failed = trace.links.find((l) => l.state === 'failed')
    if (trace.starts || (!named && failed?.repairs?.includes('system-entry'))) return trace
  }
  return first
}

async function traceOnce(
  firmware: Firmware,
  drives: readonly AttachedDrive[],
  { reference, digest, system }: Pick<Start, 'reference' | 'digest' | 'system'>,
): Promise<Trace> {
  const chain = new Chain(TRACE_LINKS[firmware.mode])
  const started = await chain.follow(async () => {
    const candidates = await readTables(inOrder(firmware, drives))
    const follow = firmware.mode === 'uefi' ? followUefi : followBios
    return follow({ chain, firmware, candidates, reference, digest, system })
  })
  const { links } = chain
  if (!started) return { links, starts: false }
  const { driveId, systemPartitionGuid, systemPartition, systemDriveId } = started
  return {
    ...{ links, starts: true, startedFrom: driveId },
    ...(systemPartitionGuid ? { systemPartitionGuid } : {}),
    ...(systemPartition ? { systemPartition } : {}),
    ...(systemDriveId ? { systemDrive: systemDriveId } : {}),
  }
}

/** A loader is looked for no deeper, and no more of them are tried. */
const MOST_LOADERS = 32

/** An entry for each loader on the EFI system partitions that are here. */
async function loaderEntries(drives: readonly AttachedDrive[]): Promise<Firmware['bootEntries']> {
  const entries: Firmware['bootEntries'][number][] = []
  for (const { device } of drives) {
    const reading = await readScheme(device)
    for (const partition of reading?.partitions ?? []) {
      if (partition.typeGuid !== TYPE_GUIDS.efiSystem) continue
      const volume = await openFileSystem(sliceOf(device, partition)).catch(orUndefined)
      if (!volume?.kind.startsWith('fat')) continue
      for await (const path of loadersOf(volume)) {
        if (entries.length >= MOST_LOADERS) return entries
        const id = entries.length.toString(16).toUpperCase().padStart(4, '0')
        entries.push({ id, name: path, partitionGuid: partition.guid, path: path.replaceAll('/', '\\') })
      }
    }
  }
  return entries
}

async function* loadersOf(esp: FileSystem): AsyncGenerator<string> {
  const folders = (await esp.list('/EFI').catch(orUndefined)) ?? []
  for (const folder of folders.filter((f) => f.kind === 'directory')) {
    for (const below of [folder.path, `${folder.path}/Boot`]) {
      for (const file of (await esp.list(below).catch(orUndefined)) ?? [])
        if (file.kind === 'file' && /\.efi$/i.test(file.name)) yield file.path
    }
  }
}

async function readTables(drives: readonly AttachedDrive[]): Promise<Candidate[]> {
  if (drives.length === 0) {
    throw new BootFailure(
      'no drive to start from',
      'All slots are empty',
      'There is no drive in any slot of this computer.',
    )
  }
  const candidates: Candidate[] = []
  let trouble: BootFailure | undefined
  for (const drive of drives) {
    const marker = await readMarker(drive.device)
    if (marker) {
      trouble ??= new BootFailure(
        `${drive.name} holds an unfinished copy`,
        marker.note,
        'A copy to this drive did not end, so it is marked and not started from. Resume the copy in Copy, or copy to it again.',
      )
      continue
    }
    const reading = await readScheme(drive.device)
    if (reading && reading.scheme !== 'damaged') candidates.push({ drive, reading })
    else if (reading) {
      trouble ??= new BootFailure(
        `the table of ${drive.name} is damaged`,
        reading.findings[0]?.sentence ?? '',
        'No copy of the partition table can be used.',
      )
    } else {
      trouble ??= new BootFailure(
        `${drive.name} holds no partition table`,
        `${drive.slot}: neither the first sectors nor the last carry one`,
        'Nothing was copied to this drive yet, or its table is gone.',
      )
    }
  }
  if (candidates.length === 0) throw trouble!
  for (const [i, a] of candidates.entries()) {
    const twin = candidates.slice(i + 1).find((b) => identityOf(b.reading) === identityOf(a.reading))
    if (twin) {
      throw new BootFailure(
        'two drives carry one identity',
        `${a.drive.name} in ${a.drive.slot} and ${twin.drive.name} in ${twin.drive.slot}: ${identityWords(a.reading)}`,
        'A system that sees both may renumber one of them and not start again. Take one of the two out, or give the new one an identity of its own.',
        ['disk-identity'],
      )
    }
  }
  return candidates
}
