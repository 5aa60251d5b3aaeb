import { mkdir } from 'node:fs/promises'
import path from 'node:path'
import { fileTime } from '@/core/bytes/file-time'
import type { HeatModel } from '@/core/copy/heat'
import type { Drive } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { journalsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { leasableDrive, type LeaseRequest } from '../leases'
import { type Move, hasOwnIdentity } from '../moves'
import { journalOf, latestCopy, snapshotOf } from '../moves/copies'
import { copyNote, type LegNow } from '../moves/legs'
import { movedVolumesOf } from '../moves/moved'
import { nextRepairIds, repairFile, roomFile } from '../moves/repair-files'
import { driveOf, driveUnder, leasableMedium, type Medium, mediumBytes, mediumName } from '../moves/media'
import { benchNow, pace } from '../world/clock'
import type { CopyOrder, CopyPart, WorkerMedium } from './messages'

/** The source for reading, its targets for itself alone. Whoever pulls one ends the copy, as at a real bench. */
export async function leaseFor(
  move: Move,
  leg: LegNow,
  further: readonly Drive[],
  rest: readonly LegNow[] = [],
): Promise<LeaseRequest> {
  const legs = [leg, ...rest]
  return {
    purpose: `the copy of ${move.brief.name}`,
    mayBePulled: true,
    needsPower: true,
    read: await Promise.all(legs.map((one) => leasableMedium(one.from))),
    write: await Promise.all([...legs.map((one) => leasableMedium(one.to)), ...further.map(leasableDrive)]),
  }
}

/** The drives that are chosen to be written in the same reading. */
export async function furtherDrives(move: Move): Promise<Drive[]> {
  const ids = move.row.ready?.choices.further ?? []
  return move.bench.drives.filter((d) => ids.includes(d.id))
}

/** What a copy is started with, but for the choices. */
export async function orderFor(move: Move, leg: LegNow, job: string) {
  return { ...(await partFor(move, leg, job)), pace: await pace(), world: provider().id } satisfies Partial<CopyOrder>
}

/** A drive that is copied after another one, as it was at the same moment. */
export async function restFor(move: Move, leg: LegNow, job: string): Promise<CopyPart> {
  const source = workerMedium(leg.from, leg.source.fingerprint)
  return { ...(await partFor(move, leg, job)), source, targets: [workerMedium(leg.to)] }
}

async function partFor(move: Move, leg: LegNow, job: string) {
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
    journal: journalOf(job),
    again: (await latestCopy(move.id, leg.index))?.summary != null,
    ...(heat ? { heat } : {}),
    ...(leg.to.kind === 'image' ? { made: madeOf(leg) } : {}),
    ...(live ? { live } : {}),
    ...(leg.last && leg.layout.into ? { put: putOf(move, leg) } : {}),
    ...(leg.last ? await startsOf(move, leg) : {}),
  } satisfies Partial<CopyPart>
}

/** Where what is kept of a volume's entry in a drive with others goes. */
function putOf(move: Move, { index }: LegNow): NonNullable<CopyPart['put']> {
  const kept = path.join(journalsFolder(), `put-${move.id}-${index}`)
  return { entryFile: `${kept}.entry`, tableFile: `${kept}.table`, roomFile: roomFile(move.id) }
}

/** What a target has to be changed in that starts beside another system or its own source. */
async function startsOf(move: Move, { layout, source, to }: LegNow): Promise<Pick<CopyPart, 'starts'>> {
  if (to.kind !== 'drive' || (!layout.into && !hasOwnIdentity(move))) return {}
  const withSystem = source.partitions.filter((p) => p.system).map((p) => p.number)
  const systems = layout.partitions.filter((p) => withSystem.includes(p.sourceNumber)).map((p) => p.number)
  if (systems.length === 0) return {}
  const ids = await nextRepairIds(move.id, move.row.proof?.repairs ?? [], 1 + systems.length)
  return {
    starts: {
      systems,
      ...(layout.into ? {} : { moved: movedVolumesOf(move) }),
      time: fileTime(await benchNow()),
      repairs: ids.map((id) => ({ id, file: repairFile(move.id, id) })),
    },
  }
}

/** What the record of an image tells of where it came from; what is left out is said with the choices. */
function madeOf({ from, source, layout, volumes }: LegNow): NonNullable<CopyOrder['made']> {
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
    volumes,
    leaveOut: [],
  }
}

/** What of a running computer the copy has to know. */
function liveOf(move: Move, { source, transfer }: LegNow, snapshotFile: string): CopyOrder['live'] {
  const extent = (p: (typeof source.partitions)[number]) => ({ offset: p.startBytes, length: p.sizeBytes })
  const computer = move.bench.computers.find((c) => c.id === transfer.by)
  // On a drive without a system its programs keep their files in the volume that holds most.
  const [largest] = [...source.partitions].sort((a, b) => (b.volume?.usedBytes ?? 0) - (a.volume?.usedBytes ?? 0))
  const volume = source.partitions.find((p) => p.role === 'system') ?? largest
  if (!volume || !computer) throw new Refusal('copy-no-system')
  return {
    volume: extent(volume),
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
