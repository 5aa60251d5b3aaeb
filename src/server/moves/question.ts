import type { Brief } from '@/core/intake/brief'
import { whyNotYet } from '@/core/intake/possible'
import type { Pair, PastCopies, RoomOnDrive, RouteQuestion } from '@/core/route/question'
import { transferDrives } from '@/core/route/search'
import type { Plan } from '@/core/route/types'
import { diskIdentity } from '@/core/survey/identity'
import type { DriveSurvey } from '@/core/survey/types'
import { isHost } from '@/core/things/accessory'
import type { BenchState } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { CopyRow } from '../database/models'
import { knownOf } from '../world/known'
import { type Move, oldDriveStays } from '.'
import { driveWritten, moveClaims } from './claims'

/** The drives, with what each pair holds, as the search for plans asks. */
export function pairsOf({ brief, row, bench, pairs }: Move): Pair[] {
  const hosts = bench.accessories.filter(isHost).map((h) => h.id)
  return pairs.map(({ source, target, volume }, i) => ({
    sourceId: source.id,
    targetId: target?.id ?? null,
    bytes: bytesOf(row.survey?.pairs[i].source, volume) ?? source.sizeBytes,
    // A drive that a series is made from stays in its bay.
    ...(volume !== undefined || oldDriveStays({ brief }) || isMaster(brief, source) ? { stays: true } : {}),
    // A drive that is an image lies at the host, and needs no dock to be read there.
    imagesAt: source.image !== null || (i === 0 && brief.images.length > 0) ? hosts.slice(0, 1) : [],
  }))
}

const isMaster = ({ series }: Brief, source: Drive) => series !== undefined && source.image === null

/** What a copy of a drive takes, or of one of its volumes. */
function bytesOf(survey: DriveSurvey | undefined, volume: number | undefined): number | undefined {
  if (volume === undefined) return survey?.usedBytes
  const partition = survey?.partitions.find((p) => p.number === volume)
  return partition?.volume?.usedBytes ?? partition?.sizeBytes
}

/** Everything the plans of a move are searched for with. */
export async function questionOf(move: Move): Promise<RouteQuestion> {
  const { brief, bench, computer } = move
  const claimed = await claimedDrives(move)
  const question: RouteQuestion = {
    bench: withSeats(benchFor(move), await seatsOfSeries(move)),
    computerId: computer.id,
    goal: brief.toVirtualMachine
      ? { kind: 'virtual-machine' }
      : { kind: 'computer', computerId: brief.targetComputerId ?? brief.computerId },
    pairs: pairsOf(move),
    roomOn: {},
    claimedDrives: [...claimed.keys()],
    past: await pastCopies(),
  }
  const room: Record<string, RoomOnDrive> = {}
  for (const id of transferDrives(question)) {
    const { room: found } = await knownOf(bench.drives.find((d) => d.id === id)!)
    if (found) room[id] = { bytes: found.bytes, limitedBy: found.limitedBy }
  }
  return { ...question, roomOn: room, twins: await twinsOf(move, claimed) }
}

/** Drives in the move's computers that carry the identity of one of its sources, and that no other move rests on. */
async function twinsOf({ row, bench, brief, pairs }: Move, claimed: ReadonlyMap<string, string>) {
  const computers = [brief.computerId, brief.targetComputerId]
  const own = pairs.flatMap((p) => [p.source.id, p.target?.id])
  const inside = bench.drives.filter(
    ({ id, place }) =>
      place.kind === 'slot' && computers.includes(place.computerId) && !own.includes(id) && !claimed.has(id),
  )
  const twins: Record<string, number> = {}
  for (const drive of inside) {
    const { identity } = await knownOf(drive)
    const pair = (row.survey?.pairs ?? []).findIndex(({ source }) => diskIdentity(source) === identity)
    if (identity !== undefined && pair >= 0) twins[drive.id] = pair
  }
  return twins
}

/** The bench without what lies about and has no part in the move: neither its own drive nor one for transfers. */
function benchFor({ bench, pairs }: Move): BenchState {
  const own = new Set(pairs.flatMap((p) => [p.source.id, p.target?.id]))
  const isLoose = ({ place }: Drive) => place.kind === 'table' || place.kind === 'shelf'
  return { ...bench, drives: bench.drives.filter((d) => own.has(d.id) || d.purpose === 'transfer' || !isLoose(d)) }
}

/** Drives of other computers of the series, in the bays that they are to be written in. */
export async function seatsOfSeries({ id, row, brief, bench }: Move): Promise<Drive[]> {
  if (brief.series === undefined) return []
  const others = (await moveClaims(row.benchId)).filter((c) => c.series === brief.series && c.id !== id)
  return others
    .filter((c) => !c.handedOver && !c.putOff)
    .flatMap(({ transfers }) =>
      transfers.flatMap(({ to }) => {
        const drive = to.kind === 'drive' ? bench.drives.find((d) => d.id === to.driveId) : undefined
        // One that is in its computer has left its bay.
        if (to.kind !== 'drive' || to.place.kind !== 'bay' || !drive || drive.place.kind === 'slot') return []
        return [{ ...drive, place: to.place }]
      }),
    )
}

const withSeats = (bench: BenchState, seated: readonly Drive[]): BenchState => ({
  ...bench,
  drives: [...bench.drives.filter((d) => !seated.some((s) => s.id === d.id)), ...seated],
})

/** Why a route is planned only, or null for one that can be carried out. */
export function notYet(plan: Plan): string | null {
  return whyNotYet({ plan }) ?? null
}

/** Drives that other moves write to, now or later, with the name of the move. */
export async function claimedDrives({ id, row }: Pick<Move, 'id' | 'row'>): Promise<Map<string, string>> {
  const claimed = new Map<string, string>()
  for (const other of await moveClaims(row.benchId)) {
    if (other.id === id || other.handedOver) continue
    const targets = other.pairs.flatMap((p) => p.targetId ?? [])
    for (const driveId of [...targets, ...other.transfers.flatMap(driveWritten)]) claimed.set(driveId, other.name)
  }
  return claimed
}

/** Drives of a move that another one has, too, each in a sentence. */
export async function sharedDrives({ id, row, pairs }: Pick<Move, 'id' | 'row' | 'pairs'>): Promise<string[]> {
  const found: string[] = []
  for (const other of await moveClaims(row.benchId)) {
    if (other.id === id || other.handedOver) continue
    const name = `${other.name}, ${other.customer}`
    const written = new Set([...other.pairs.flatMap((p) => p.targetId ?? []), ...other.transfers.flatMap(driveWritten)])
    for (const { source, target, volume } of pairs) {
      // Computers of one series are meant to have one source.
      const together = other.series !== undefined && other.series === row.brief.series
      if (!together && other.pairs.some((p) => p.sourceId === source.id))
        found.push(
          // One system is copied from a drive that stays where it is.
          volume !== undefined || other.pairs.some((p) => p.volume !== undefined)
            ? `The ${driveName(source)} is the source of another move, too: ${name}. Both may copy it, one after the other.`
            : `The ${driveName(source)} is the source of another move, too: ${name}. Both may copy it; whichever swaps first takes it out for both.`,
        )
      if (written.has(source.id))
        found.push(`The ${driveName(source)} is written by another move: ${name}. What it holds by then is not this.`)
      if (target && written.has(target.id))
        found.push(
          `The ${driveName(target)} is written by another move, too: ${name}. One of the two needs another drive.`,
        )
    }
  }
  return found
}

/** By the links they went over: how many copies were done, and the mean share of the rate they reached. */
async function pastCopies(): Promise<Record<string, PastCopies>> {
  const rows = await CopyRow.findAll({ where: { status: 'done' }, attributes: ['linkKey', 'throughputRatio'] })
  const past: Record<string, PastCopies> = {}
  for (const { linkKey, throughputRatio } of rows) {
    if (linkKey === null || throughputRatio === null) continue
    const { copies, share: mean } = past[linkKey] ?? { copies: 0, share: 0 }
    past[linkKey] = { copies: copies + 1, share: (mean * copies + throughputRatio) / (copies + 1) }
  }
  return past
}
