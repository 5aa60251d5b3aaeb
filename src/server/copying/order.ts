import { mkdir } from 'node:fs/promises'
import type { HeatModel } from '@/core/copy/heat'
import type { Drive } from '@/core/things/drive'
import { journalsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { leasableDrive, type LeaseRequest } from '../leases'
import type { Move } from '../moves'
import { journalOf, snapshotOf } from '../moves/copies'
import { copyNote, type LegNow } from '../moves/legs'
import { driveOf, driveUnder, leasableMedium, type Medium, mediumBytes, mediumName } from '../moves/media'
import { pace } from '../world/clock'
import type { CopyOrder, WorkerMedium } from './messages'

/** The source for reading, its targets for itself alone. Whoever pulls one ends the copy, as at a real bench. */
export async function leaseFor(move: Move, leg: LegNow, further: readonly Drive[]): Promise<LeaseRequest> {
  return {
    purpose: `the copy of ${move.brief.name}`,
    mayBePulled: true,
    needsPower: true,
    read: [await leasableMedium(leg.from)],
    write: await Promise.all([leasableMedium(leg.to), ...further.map(leasableDrive)]),
  }
}

/** The drives that are chosen to be written in the same reading. */
export async function furtherDrives(move: Move): Promise<Drive[]> {
  const ids = move.row.ready?.choices.further ?? []
  return move.bench.drives.filter((d) => ids.includes(d.id))
}

export async function orderFor(move: Move, leg: LegNow, job: string) {
  await mkdir(journalsFolder(), { recursive: true })
  const drive = driveOf(leg.from)
  const heat = drive && heatOf(drive)
  const live = leg.transfer.live ? liveOf(move, leg, snapshotOf(journalOf(job))) : undefined
  return {
    job,
    layout: leg.layout,
    ...(leg.sampledBy ? { sampledBy: leg.sampledBy } : {}),
    timing: leg.transfer.timing,
    note: copyNote(move, leg),
    pace: await pace(),
    journal: journalOf(job),
    ...(heat ? { heat } : {}),
    ...(leg.to.kind === 'image' ? { made: madeOf(leg) } : {}),
    ...(live ? { live } : {}),
  } satisfies Partial<CopyOrder>
}

/** What the record of an image tells of where it came from; what is left out is said with the choices. */
function madeOf({ from, source, layout }: LegNow): NonNullable<CopyOrder['made']> {
  const drive = driveOf(from)
  const { sizeBytes, logicalSectorSize: sectorSize } = source
  return {
    how: 'copy',
    source: {
      name: mediumName(from),
      model: drive?.model ?? null,
      serial: drive?.serial ?? null,
      sizeBytes,
      sectorSize,
    },
    survey: source,
    layout,
    read: 'used',
    volumes: null,
    leaveOut: [],
  }
}

/** What of a running computer the copy has to know. */
function liveOf(move: Move, { source, transfer }: LegNow, snapshotFile: string): CopyOrder['live'] {
  const extent = (p: (typeof source.partitions)[number]) => ({ offset: p.startBytes, length: p.sizeBytes })
  const system = source.partitions.find((p) => p.role === 'system')
  const computer = move.bench.computers.find((c) => c.id === transfer.by)
  if (!system || !computer) throw new Refusal('copy-no-system')
  return {
    system: extent(system),
    snapshotFile,
    direct: source.partitions.filter((p) => p.role === 'boot').map(extent),
    programs: computer.programs.filter((p) => p.running).map((p) => p.name),
  }
}

/** A hard disk that is read for hours warms up by so much. */
const WARMS_BY = 14

function heatOf({ kind, health }: Drive): HeatModel | undefined {
  if (kind !== 'hard disk' || !health) return undefined
  const start = health.temperatureCelsius
  return { start, busy: start + WARMS_BY, idle: Math.min(start, 30) }
}

export function workerMedium(medium: Medium, fingerprint?: string): WorkerMedium {
  const id = driveUnder(medium)?.id ?? mediumName(medium)
  return { id, title: mediumName(medium), ...mediumBytes(medium), ...(fingerprint ? { fingerprint } : {}) }
}

export const workerDrive = (drive: Drive, fingerprint?: string) => workerMedium({ kind: 'drive', drive }, fingerprint)
