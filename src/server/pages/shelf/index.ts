import { Worker } from 'node:worker_threads'
import { z } from 'zod'
import type { Erased } from '@/core/block/erase'
import { formatSize } from '@/core/bytes/size'
import { PLATE_CHARACTERS, plateMatches, platePrefix } from '@/core/ready/plate-check'
import { type BenchState, placeKey, placeName, whyNotThere } from '@/core/things/bench'
import { fittedWords } from '@/core/things/bodies'
import { type Drive, driveName, type Place, PlaceSchema } from '@/core/things/drive'
import { database } from '../../database'
import { DriveRow, MoveRow } from '../../database/models'
import { publish } from '../../ground/events'
import { inBenchQueue } from '../../ground/queue'
import { Refusal } from '../../ground/refusal'
import { dayWithYear, daysUntil } from '../../ground/words'
import { leasableDrive, withLease } from '../../leases'
import { note } from '../../moves/logbook'
import { activeBench, benchOfDrive, benchState, driveById, driveBytes, placeDrive } from '../../world'
import { benchNow } from '../../world/clock'
import type { EraseOrder, FromEraseWorker } from './erase.worker'

// Old drives that were set aside: the way back until their day, free to be erased after it.

/** The move that a drive was the source of, the newest first. */
async function moveOfDrive(driveId: string): Promise<MoveRow | undefined> {
  await database()
  const rows = await MoveRow.findAll({ order: [['position', 'DESC']] })
  return rows.find((r) => r.brief.pairs.some((p) => p.sourceId === driveId))
}

/** Everything the shelf's page shows. */
export async function shelfState() {
  const { id, name } = await activeBench()
  const bench = await benchState(id)
  const now = await benchNow()
  const drives = []
  for (const drive of bench.drives.filter((d) => d.place.kind === 'shelf')) {
    const row = await moveOfDrive(drive.id)
    drives.push({ ...shelved(drive, now), move: row && moveWords(row), goesInto: openings(drive, bench) })
  }
  return { bench: name, drives: drives.sort((a, b) => (a.days ?? 1e9) - (b.days ?? 1e9)) }
}

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
    mayErase: days !== undefined && days <= 0,
    hasBytes: drive.file !== null,
  }
}

const moveWords = (row: MoveRow) => ({
  id: row.id,
  name: row.brief.name,
  customer: row.brief.customer,
  handedOver: row.handover !== null,
})

/** Slots of computers that would take the drive, were their cables pulled. */
function openings(drive: Drive, now: BenchState): { key: string; name: string; place: Place }[] {
  const bench = { ...now, computers: now.computers.map((c) => ({ ...c, mains: false })) }
  return bench.computers.flatMap((computer) =>
    computer.slots.flatMap((slot) => {
      const place: Place = { kind: 'slot', computerId: computer.id, slot: slot.id }
      return whyNotThere(drive, place, bench) ? [] : [{ key: placeKey(place), name: placeName(place, bench), place }]
    }),
  )
}

export const PutBackSchema = z.object({ driveId: z.string().max(80), place: PlaceSchema })

/** Puts a drive from the shelf into a computer. Its day stays on its label. */
export async function putBack(input: unknown): Promise<void> {
  const { driveId, place } = PutBackSchema.parse(input)
  const drive = await driveById(driveId)
  if (drive.place.kind !== 'shelf') throw new Refusal(`The ${driveName(drive)} is not on the shelf.`)
  if (place.kind !== 'slot') throw new Refusal('A drive is put back into a slot of a computer.', 400)
  const bench = await benchOfDrive(driveId)
  const computer = bench.computers.find((c) => c.id === place.computerId)
  if (computer && (computer.running !== 'off' || computer.mains))
    throw new Refusal(`The ${computer.name} has power. Shut it down and pull its mains cable first.`)
  await placeDrive(driveId, place, drive.shelf)
  const row = await moveOfDrive(driveId)
  if (row) await note(row.id, `${driveName(drive)} put back: ${placeName(place, bench)}`)
}

export const EraseSchema = z.object({
  driveId: z.string().max(80),
  how: z.enum(['zeros', 'discard']),
  plate: z.string().max(PLATE_CHARACTERS),
  reason: z.string().trim().max(300).default(''),
})

/** Erases a drive of the shelf for reuse. Throws Refusal, nothing written, where it may not be. */
export async function eraseDrive(input: unknown): Promise<void> {
  const request = EraseSchema.parse(input)
  const write = [await leasableDrive(await driveById(request.driveId))]
  await withLease({ purpose: 'an erase', write }, () => eraseLeased(request))
}

async function eraseLeased({ driveId, how, plate, reason }: z.infer<typeof EraseSchema>): Promise<void> {
  const drive = await driveById(driveId)
  const name = driveName(drive)
  if (drive.place.kind !== 'shelf')
    throw new Refusal(`The ${name} is not on the shelf. Only what was set aside is erased.`)
  if (drive.file === null) throw new Refusal(`The ${name} is only described here; there are no bytes to erase.`)
  if (!plateMatches(drive.serial, plate))
    throw new Refusal(`These are not the last four characters on the ${name}. Nothing was written.`)
  const row = await moveOfDrive(driveId)
  if (row && !row.handover)
    throw new Refusal(
      `The ${name} is the way back of a move that is not handed over: ${row.brief.name}. Nothing was written.`,
    )
  const { days, until } = shelved(drive, await benchNow())
  const early = days === undefined || days > 0
  if (early && reason.length < 10) {
    throw new Refusal(
      `${until ? `It is kept until ${until}` : 'It has no day from which it may be erased'}. To erase it before that, say in a few words why. Nothing was written.`,
    )
  }
  const erased = await eraseApart({ drive: driveBytes(drive), how })
  const at = await benchNow()
  await inBenchQueue(async () => {
    const data: Drive = {
      ...(await driveById(driveId)),
      place: { kind: 'table' },
      shelf: undefined,
      erased: { at, ...erased, ...(early ? { reason } : {}) },
    }
    await DriveRow.update({ data }, { where: { id: driveId } })
  })
  if (row) {
    const words = `${name} erased, ${formatSize(erased.checkedBytes)} read back as zeros`
    await note(row.id, early ? `${words}, before its day: ${reason}` : words, early ? 'bad' : 'good')
  }
  publish({ type: 'changed', moveId: null })
}

function eraseApart(order: EraseOrder): Promise<Erased> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./erase.worker.ts', import.meta.url), { workerData: order })
    const lost = () => reject(new Refusal('Erasing ended unexpectedly. The drive may hold a part of what it held.'))
    worker.on('message', (message: FromEraseWorker) =>
      message.type === 'done' ? resolve(message.erased) : reject(new Refusal(message.message)),
    )
    worker.on('error', lost)
    worker.on('exit', lost)
  })
}

/** What the label of an old drive says. */
export async function labelView(driveId: string) {
  const drive = await driveById(driveId)
  const row = await moveOfDrive(driveId)
  const until = row?.handover?.shelfUntil || drive.shelf?.until || ''
  return {
    ...shelved(drive, await benchNow()),
    customer: row?.brief.customer ?? '',
    move: row?.brief.name ?? '',
    until: until ? dayWithYear(until) : '',
    code: [`s/n ${drive.serial}`, driveName(drive), row?.brief.customer, until && `keep until ${dayWithYear(until)}`]
      .filter(Boolean)
      .join('\n'),
  }
}
