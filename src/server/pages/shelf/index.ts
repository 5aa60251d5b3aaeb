import * as z from 'zod'
import { fileTime } from '@/core/bytes/file-time'
import { formatSize } from '@/core/bytes/size'
import { labelProblem } from '@/core/filesystem/label-rule'
import type { JobView } from '@/core/job'
import { PLATE_CHARACTERS, plateMatches, platePrefix } from '@/core/ready/plate-check'
import { DATA_KINDS, type DataKind, whyNoDataVolume } from '@/core/reuse/data-volume'
import { type FreePlace, placeName, slotsThatTake } from '@/core/things/bench'
import { fittedWords } from '@/core/things/bodies'
import { type Drive, driveName, type Place, PlaceSchema } from '@/core/things/drive'
import { inTransaction } from '../../database/transaction'
import { DriveRow, MoveRow } from '../../database/models'
import { Refusal } from '../../ground/refusals'
import { dayWithYear, daysUntil, laterDay } from '../../ground/words'
import { listJobs, runningJobs, startJob, type StartedJob } from '../../jobs'
import { runTask } from '../../jobs/threads'
import { leasableDrive } from '../../leases'
import { type MoveClaim, moveClaims, movesFrom, staysInside } from '../../moves/claims'
import { note } from '../../moves/logbook'
import {
  activeBench,
  benchOf,
  benchOfDrive,
  benchState,
  computerById,
  driveById,
  driveBytes,
  placeDrive,
} from '../../world'
import { benchNow } from '../../world/clock'
import { attachedDrives } from '../../world/computers/attach'

// Old drives that were set aside: the way back until their day, free to be erased after it.

/** The moves that a drive was the source of, the newest first. */
async function movesOfDrive(driveId: string): Promise<readonly MoveClaim[]> {
  const { benchId } = await benchOf(driveId)
  return movesFrom(driveId, await moveClaims(benchId))
}

/** Everything the shelf's page shows. */
export async function shelfState() {
  const { id, name } = await activeBench()
  const bench = await benchState(id)
  const [now, claims] = [await benchNow(), await moveClaims(id)]
  const drives = []
  for (const drive of bench.drives) {
    // Most drives of a bench were never set aside, and of those no move has to be looked for.
    if (!isOnShelf(drive) && !drive.shelf) continue
    const moves = movesFrom(drive.id, claims)
    const inside = staysInside(drive, moves)
    if (!isOnShelf(drive) && !inside) continue
    const shown = shelved(drive, now)
    drives.push({
      ...shown,
      mayErase: shown.due && shown.hasBytes && moves.every((m) => m.handedOver),
      moves: moves.map(moveWords),
      /** Where it is, of one that stays in its computer. */
      inside: inside ? placeName(drive.place, bench) : null,
    })
  }
  return { bench: name, job: await eraseJob(), drives: drives.sort((a, b) => (a.days ?? 1e9) - (b.days ?? 1e9)) }
}

/** On the shelf, or taken from it and plugged into this computer. */
const isOnShelf = ({ place, kernel, shelf }: Drive) =>
  place.kind === 'shelf' || (kernel !== undefined && shelf !== undefined)

function shelved(drive: Drive, now: number) {
  const until = drive.shelf?.until ?? ''
  const days = until ? daysUntil(now, until) : undefined
  return {
    id: drive.id,
    name: driveName(drive),
    model: drive.model,
    serial: drive.serial,
    sizeBytes: drive.sizeBytes,
    fits: fittedWords(drive),
    platePrefix: platePrefix(drive.serial),
    label: drive.shelf?.label ?? '',
    until: until ? dayWithYear(until) : '',
    days,
    /** Its day has come. */
    due: days !== undefined && days <= 0,
    hasBytes: drive.file !== null || drive.kernel?.path != null,
    forgets: forgets(drive),
  }
}

/** It can be told to forget what it holds. */
const forgets = ({ kernel }: Drive) => kernel?.forgets ?? true

const moveWords = ({ id, name, customer, handedOver }: MoveClaim) => ({ id, name, customer, handedOver })

/** The slots that a drive of the shelf can be put into. Rejects with Refusal. */
export async function openingsFor(driveId: string): Promise<FreePlace[]> {
  const drive = await driveById(driveId)
  if (drive.place.kind !== 'shelf') throw new Refusal('not-on-shelf', { drive: driveName(drive) })
  return slotsThatTake(drive, await benchOfDrive(driveId))
}

export const PutBackSchema = z.object({ driveId: z.string().max(80), place: PlaceSchema })

/** Puts a drive from the shelf into a computer. Its day stays on its label. */
export async function putBack(input: unknown): Promise<void> {
  const request = PutBackSchema.parse(input)
  await inTransaction(() => putBackNow(request))
}

async function putBackNow({ driveId, place }: z.infer<typeof PutBackSchema>): Promise<void> {
  const drive = await driveById(driveId)
  if (drive.place.kind !== 'shelf') throw new Refusal('not-on-shelf', { drive: driveName(drive) })
  if (place.kind !== 'slot') throw new Refusal('back-into-slot')
  const bench = await benchOfDrive(driveId)
  const computer = bench.computers.find((c) => c.id === place.computerId)
  if (computer && (computer.running !== 'off' || computer.mains))
    throw new Refusal('computer-has-power', { computer: computer.name })
  await placeDrive(driveId, place, drive.shelf)
  for (const { id } of await movesOfDrive(driveId))
    await note(id, `${driveName(drive)} put back: ${placeName(place, bench)}`)
}

export const EraseSchema = z.object({
  driveId: z.string().max(80),
  how: z.enum(['zeros', 'discard']),
  plate: z.string().max(PLATE_CHARACTERS),
  reason: z.string().trim().max(300).default(''),
  /** The volume that it gets afterwards, where it is to hold data in its computer. */
  volume: z.object({ kind: z.enum(DATA_KINDS), label: z.string().trim().max(40) }).optional(),
})

/**
 * Erases a drive of the shelf, or one that stays in its computer, for reuse. Rejects with Refusal, nothing written, where
 * it may not be.
 */
export async function eraseDrive(input: unknown): Promise<StartedJob> {
  const { driveId, how, plate, reason, volume } = EraseSchema.parse(input)
  const drive = await driveById(driveId)
  const name = driveName(drive)
  const moves = await movesOfDrive(driveId)
  if (!drive.kernel && drive.place.kind === 'slot' && staysInside(drive, moves))
    await expectReachable(drive, drive.place.computerId)
  else if (!isOnShelf(drive)) throw new Refusal('erase-off-shelf', { drive: name })
  if (drive.borrowed) throw new Refusal('drive-erased-there', { drive: name })
  if (drive.file === null && !drive.kernel) throw new Refusal('drive-described-only', { drive: name })
  if (how === 'discard' && !forgets(drive)) throw new Refusal('drive-forgets-nothing', { drive: name })
  if (!plateMatches(drive.serial, plate)) throw new Refusal('plate-wrong', { drive: name })
  const problem = volume && (whyNoDataVolume(drive, volume.kind) ?? labelProblem(volume.kind, volume.label))
  if (problem) throw new Refusal('no-data-volume', { why: problem })
  const open = moves.find((m) => !m.handedOver)
  if (open) throw new Refusal('erase-way-back', { drive: name, move: open.name })
  const { days, until } = shelved(drive, await benchNow())
  const early = days === undefined || days > 0
  if (early && reason.length < 10) {
    throw new Refusal('erase-early', { until: until ?? null })
  }
  return startJob({
    kind: 'erase',
    title: `Erase of the ${name}`,
    purpose: 'an erase',
    lease: { write: [await leasableDrive(drive)], needsPower: drive.place.kind === 'slot' },
    leaves: 'The drive may hold a part of what it held.',
    async run() {
      await refuseOther(drive)
      const made = volume && { ...volume, time: fileTime(await benchNow()) }
      const erased = await runTask('eraseDrive', { drive: driveBytes(drive), how, volume: made }, { long: true })
      const at = await benchNow()
      await inTransaction(async () => {
        await noteErased(drive, { at, ...erased, ...(early ? { reason } : {}) })
        const words = `${name} erased, ${formatSize(erased.checkedBytes)} read back as zeros`
        for (const { id } of moves)
          await note(id, early ? `${words}, before its day: ${reason}` : words, early ? 'bad' : 'good')
        if (volume)
          for (const { id } of moves) await note(id, `${name} made a data volume, ${volumeWords(volume)}`, 'good')
      })
    },
  })
}

const volumeWords = ({ kind, label }: { kind: DataKind; label: string }) =>
  `${kind === 'ntfs' ? 'NTFS' : 'exFAT'}${label && `, ${label}`}`

/** A drive in a computer is reached from there alone: by the system that starts from another drive, or by the stick. */
async function expectReachable({ id, ...drive }: Drive, computerId: string): Promise<void> {
  const computer = await computerById(computerId)
  const words = { drive: driveName(drive), computer: computer.name }
  if (computer.running === 'off') throw new Refusal('erase-computer-off', words)
  if (computer.running === 'stick') return
  const attached = attachedDrives(await benchOfDrive(id), computer)
  const start = { firmware: computer.firmware, attached, reference: undefined }
  const { starts, startedFrom, systemDrive } = await runTask('followStart', start, { long: true })
  if (!starts || startedFrom === id || systemDrive === id) throw new Refusal('erase-running', words)
}

/** What was decided about a drive is carried out on that drive where it was then, and on no other. */
async function refuseOther(drive: Drive): Promise<void> {
  const now = await driveById(drive.id)
  if (JSON.stringify([now.serial, now.place, now.file]) !== JSON.stringify([drive.serial, drive.place, drive.file]))
    throw new Refusal('drive-moved', { drive: driveName(drive) })
}

async function noteErased({ id }: Drive, erased: NonNullable<Drive['erased']>): Promise<void> {
  const drive = await driveById(id)
  const place: Place = drive.place.kind === 'shelf' ? { kind: 'table' } : drive.place
  const data: Drive = { ...drive, place, shelf: undefined, erased }
  await DriveRow.update({ data }, { where: { id } })
}

/** The erase that runs, or the newest where that did not come to its end. */
async function eraseJob(): Promise<JobView | undefined> {
  const running = runningJobs().find((job) => job.kind === 'erase')
  const [latest] = await listJobs(['erase'], 1)
  return running ?? (latest?.state === 'done' ? undefined : latest)
}

/** What the label of an old drive says. */
export async function labelView(driveId: string) {
  const drive = await driveById(driveId)
  const [row] = await movesOfDrive(driveId)
  const handover = row && (await MoveRow.findByPk(row.id, { attributes: ['handover'] }))?.handover
  const until = laterDay(handover?.shelfUntil ?? '', drive.shelf?.until ?? '')
  return {
    ...shelved(drive, await benchNow()),
    customer: row?.customer ?? '',
    move: row?.name ?? '',
    until: until ? dayWithYear(until) : '',
    code: [`s/n ${drive.serial}`, driveName(drive), row?.customer, until && `keep until ${dayWithYear(until)}`]
      .filter(Boolean)
      .join('\n'),
  }
}
