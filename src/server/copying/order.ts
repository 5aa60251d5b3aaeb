import { mkdir } from 'node:fs/promises'
import type { HeatModel } from '@/core/copy/heat'
import { type Drive, driveName } from '@/core/things/drive'
import { journalsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { leasableDrive, type LeaseRequest } from '../leases'
import type { Move } from '../moves'
import { journalOf, snapshotOf } from '../moves/copies'
import { copyNote, type LegNow } from '../moves/legs'
import { driveBytes } from '../world'
import { pace } from '../world/clock'
import type { CopyOrder, WorkerDrive } from './messages'

/** The source for reading, its targets for itself alone. Whoever pulls one ends the copy, as at a real bench. */
export async function leaseFor(move: Move, leg: LegNow, further: readonly Drive[]): Promise<LeaseRequest> {
  return {
    purpose: `the copy of ${move.brief.name}`,
    mayBePulled: true,
    needsPower: true,
    read: [await leasableDrive(leg.from)],
    write: await Promise.all([leg.to, ...further].map(leasableDrive)),
  }
}

/** The drives that are chosen to be written in the same reading. */
export async function furtherDrives(move: Move): Promise<Drive[]> {
  const ids = move.row.ready?.choices.further ?? []
  return move.bench.drives.filter((d) => ids.includes(d.id))
}

export async function orderFor(move: Move, leg: LegNow, job: string) {
  await mkdir(journalsFolder(), { recursive: true })
  const heat = heatOf(leg.from)
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
    ...(live ? { live } : {}),
  } satisfies Partial<CopyOrder>
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

export function workerDrive(drive: Drive, fingerprint?: string): WorkerDrive {
  return { id: drive.id, name: driveName(drive), ...driveBytes(drive), ...(fingerprint ? { fingerprint } : {}) }
}
