import type { Digest } from '../digest'
import { readScheme } from '../scheme'
import { readMarker } from '../survey/marker'
import { Chain, BootFailure } from './chain'
import { type AttachedDrive, type Candidate, identityOf, identityWords, inOrder } from './start'
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
): Promise<Trace> {
  const chain = new Chain(TRACE_LINKS[firmware.mode])
  const started = await chain.follow(async () => {
    const candidates = await readTables(inOrder(firmware, drives))
    const follow = firmware.mode === 'uefi' ? followUefi : followBios
    return follow({ chain, firmware, candidates, reference, digest })
  })
  const { links } = chain
  if (!started) return { links, starts: false }
  const { driveId, systemPartitionGuid } = started
  return { links, starts: true, startedFrom: driveId, ...(systemPartitionGuid ? { systemPartitionGuid } : {}) }
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
