import { randomUUID } from 'node:crypto'
import * as z from 'zod'
import { CoreError } from '@/core/errors'
import { type LentPlate, lentPlate } from '@/core/lent/plate'
import type { BorrowedView, BorrowingView } from '@/core/lent/view'
import type { FarBench } from '@/core/things/accessory'
import { isFar } from '@/core/things/bench'
import { whyNotInto } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { NetworkLinkSchema } from '@/core/things/links'
import { line } from '@/core/words-schema'
import { nbdAddress, nbdUri, type NbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode, type SharedKey } from '@/nbd/key'
import { AccessoryRow, ComputerRow, DriveRow } from '../../database/models'
import { inTransaction } from '../../database/transaction'
import { refusedFor } from '../../ground/answer'
import { publish } from '../../ground/events'
import { log } from '../../ground/log'
import { forgetLentKey, keepLentKey } from '../../ground/lent-keys'
import { outsideQueues } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { singleton } from '../../ground/singleton'
import { activeBench, benchState, driveById } from '../../world'
import { askForDrive, keep, letGoOfDrive, wholeSectors } from '../../world/borrowed'
import { driveOfModel } from '../../world/image-drives'
import { refuseSerial, removeThing, thingId } from '../../world/things'

/** So many are waited for at once. */
const MOST_ASKED = 8

const BorrowSchema = z.object({
  /** As whoever lends it says it: `nbds://NAME@HOST:PORT/EXPORT`. */
  address: line().trim().min(1, 'Write the address that the other bench shows').max(400),
  /** The code that makes its key; empty where it is lent without one. */
  code: line().trim().max(40).default(''),
  /** What the other bench is called here, where it does not say its name. */
  bench: line().trim().max(80).default(''),
  link: NetworkLinkSchema.default('ethernet-1'),
})

/** Something that another bench was asked for and that is not on this one yet. */
interface Borrowing {
  readonly id: string
  readonly address: NbdAddress
  readonly benchId: string
  readonly ended: AbortController
  state: BorrowingView['state']
  why: string
}

const borrowings = () => singleton('borrowings', () => new Map<string, Borrowing>())

/**
 * Asks another bench for what it lends. Returns an id for the asking; once there is a yes, the drive stands on the bench.
 * Rejects with Refusal where address or code can be none.
 */
export async function borrow(input: unknown): Promise<string> {
  const wanted = BorrowSchema.parse(input)
  const { address, key } = readable(wanted)
  const uri = nbdUri(address)
  await refuseTwice(uri)
  const { id: benchId } = await activeBench()
  // Nothing is waited for from here on, so that of several that ask for one thing at once one does.
  const all = [...borrowings().values()]
  for (const other of all.filter((b) => nbdUri(b.address) === uri)) {
    if (other.state !== 'refused') throw new Refusal('borrow-asked')
    borrowings().delete(other.id)
  }
  if (all.filter((b) => b.state !== 'refused').length >= MOST_ASKED)
    throw new Refusal('borrow-full', { most: MOST_ASKED })
  const id = randomUUID()
  const borrowing: Borrowing = { id, address, benchId, ended: new AbortController(), state: 'connects', why: '' }
  borrowings().set(id, borrowing)
  void outsideQueues(() => askFor(borrowing, key, wanted))
  return id
}

function readable({ address, code }: z.infer<typeof BorrowSchema>): { address: NbdAddress; key?: SharedKey } {
  try {
    // A file that an address names is one of whoever wrote it, and nothing of this computer is read for that.
    const plain = { ...nbdAddress(address), pskFile: undefined }
    if (plain.tls && code === '')
      throw new CoreError('This is lent by a key: write the code that the other bench shows.')
    return { address: plain, ...(plain.tls ? { key: keyOfCode(code) } : {}) }
  } catch (error) {
    if (error instanceof CoreError) throw new Refusal('borrow-refused', { why: error.message })
    throw error
  }
}

async function refuseTwice(address: string): Promise<void> {
  const same = (await benchState()).drives.find((d) => d.borrowed?.address === address)
  if (same) throw new Refusal('borrowed-already', { drive: driveName(same) })
}

async function askFor(
  borrowing: Borrowing,
  key: SharedKey | undefined,
  wanted: z.infer<typeof BorrowSchema>,
): Promise<void> {
  const { id, address, ended } = borrowing
  const tell = (state: Borrowing['state'], why = '') => {
    Object.assign(borrowing, { state, why })
    publish({ type: 'changed', moveId: null })
  }
  let file: NbdFile | undefined
  try {
    file = await NbdFile.open(address, { key, onAsked: () => tell('asked'), signal: ended.signal })
    const driveId = await putOnBench(borrowing, key, file, wanted)
    borrowings().delete(id)
    keep(driveId)
    log.info({ drive: driveId, address: nbdUri(address) }, 'borrowed over the network')
    publish({ type: 'changed', moveId: null })
  } catch (error) {
    if (ended.signal.aborted) return
    if (!(error instanceof CoreError || error instanceof Refusal)) log.error(error)
    tell('refused', refusedFor(error).sentence)
  } finally {
    await file?.close()
  }
}

/** Puts what is lent on the bench, with the bench and the computer that it is at. Returns the drive's id. */
async function putOnBench(
  { address, benchId }: Borrowing,
  key: SharedKey | undefined,
  file: NbdFile,
  wanted: z.infer<typeof BorrowSchema>,
): Promise<string> {
  const told = lentPlate(file.toldOfIt)
  const sectorSize = file.minimumBytes > 512 ? 4096 : 512
  const sizeBytes = wholeSectors(file.size, sectorSize)
  if (sizeBytes === 0) throw new Refusal('borrow-refused', { why: 'What is lent there holds less than a sector.' })
  const plate = told?.drive.sizeBytes === file.size && told.drive.logicalSectorSize === sectorSize ? told : undefined
  const uri = nbdUri(address)
  return inTransaction(async () => {
    await refuseTwice(uri)
    const farBench = await farBenchFor(benchId, wanted.bench || plate?.bench || `Bench at ${address.host}`, wanted)
    const computer = plate && (await computerFor(benchId, farBench, plate))
    const model = plate?.drive.model ?? (address.exportName.slice(0, 80) || 'Lent disk')
    const id = await thingId(DriveRow, plate?.drive.serial ?? model)
    const drive: Drive = {
      ...driveOfModel('sata-ssd'),
      ...{ logicalSectorSize: sectorSize, physicalSectorSize: 4096, encrypted: false },
      ...{ requestSeconds: 0 },
      ...plate?.drive,
      ...{ id, model, serial: plate?.drive.serial ?? id, sizeBytes },
      ...{ purpose: 'customer', unreadable: [], misstores: [], file: null, image: null },
      place: { kind: 'far', accessoryId: farBench.id },
      borrowed: {
        ...{ farBenchId: farBench.id, address: uri, writable: !file.isReadOnly },
        ...{ state: 'away', bytesPerSecond: null },
      },
    }
    const slot = computer && (await slotFor(drive, computer, plate.slot, benchId))
    if (slot) drive.place = { kind: 'slot', computerId: computer.id, slot: slot.id }
    await refuseSerial(drive.serial, undefined)
    // Before the drive is there: one without its key could never be read.
    if (key) await keepLentKey(id, key)
    await DriveRow.create({ id, benchId, data: drive })
    return id
  })
}

async function farBenchFor(benchId: string, name: string, { link }: { link: FarBench['link'] }): Promise<FarBench> {
  const { accessories } = await benchState(benchId)
  const known = accessories.find((a) => a.kind === 'far-bench' && a.name.toLowerCase() === name.toLowerCase())
  if (known?.kind === 'far-bench') return known
  const made: FarBench = {
    id: await thingId(AccessoryRow, name),
    name,
    detail: 'lends over the network',
    kind: 'far-bench',
    link,
  }
  await AccessoryRow.create({ id: made.id, benchId, data: made })
  return made
}

/** The computer that a lent drive sits in, as it is known here. */
async function computerFor(benchId: string, farBench: FarBench, plate: LentPlate): Promise<Computer | undefined> {
  if (!plate.computer || !isSound(plate.computer)) return undefined
  const { computers } = await benchState(benchId)
  const known = computers.find((c) => c.farBenchId === farBench.id && c.name === plate.computer!.name)
  if (known) return known
  const id = await thingId(ComputerRow, plate.computer.name)
  const made: Computer = { ...plate.computer, id, programs: [], farBenchId: farBench.id }
  await ComputerRow.create({ id, benchId, data: made })
  return made
}

/** The slot that it is said to sit in, where there is such a one here that takes it and is free. */
async function slotFor(drive: Drive, { id, slots }: Computer, said: string | null, benchId: string) {
  const slot = slots.find((s) => s.id === said)
  const { drives } = await benchState(benchId)
  const isTaken = drives.some(({ place: p }) => p.kind === 'slot' && p.computerId === id && p.slot === said)
  return slot && !isTaken && !whyNotInto(drive, slot, 1) ? slot : undefined
}

/** A computer as another bench tells of it has to be one that could be described here. */
const isSound = ({ slots, homeSlot }: Pick<Computer, 'slots' | 'homeSlot'>) =>
  new Set(slots.map((s) => s.id)).size === slots.length && slots.some((s) => s.id === homeSlot)

const DriveIdSchema = z.object({ driveId: line().max(80) })

/** Asks again for a drive that was let go of, or refused. Rejects with Refusal. */
export async function askAgain(input: unknown): Promise<void> {
  await askForDrive(DriveIdSchema.parse(input).driveId)
}

/** Gives a lent drive back: it is no longer on this bench. Rejects with Refusal where a move or a job has it. */
export async function giveBack(input: unknown): Promise<void> {
  const { driveId } = DriveIdSchema.parse(input)
  const drive = await driveById(driveId)
  if (!drive.borrowed) throw new Refusal('drive-not-lent', { drive: driveName(drive) })
  await removeThing({ kind: 'drive', id: driveId })
  await letGoOfDrive(driveId)
  await forgetLentKey(driveId)
}

/** Asks for something no more that has not come yet. Rejects with Refusal. */
export async function endBorrowing(input: unknown): Promise<void> {
  const { id } = z.object({ id: line().max(80) }).parse(input)
  const borrowing = borrowings().get(id)
  if (!borrowing) throw new Refusal('borrow-ended')
  borrowing.ended.abort()
  borrowings().delete(id)
  publish({ type: 'changed', moveId: null })
}

/** What was asked for and has not come, and the drives of the bench that others lend. */
export async function borrowedState() {
  const { id: benchId } = await activeBench()
  const bench = await benchState(benchId)
  const asked = [...borrowings().values()]
    .filter((b) => b.benchId === benchId)
    .map(({ id, address, state, why }): BorrowingView => ({ id, address: nbdUri(address), state, why }))
  const borrowed = bench.drives.flatMap((drive) =>
    drive.borrowed ? [borrowedView(drive, bench, isFar(drive, bench))] : [],
  )
  return { asked, borrowed }
}

function borrowedView(drive: Drive, bench: Awaited<ReturnType<typeof benchState>>, isThere: boolean): BorrowedView {
  const { farBenchId, address, state, writable, bytesPerSecond } = drive.borrowed!
  const far = bench.accessories.find((a) => a.id === farBenchId)
  return {
    ...{ driveId: drive.id, name: driveName(drive), bench: far?.name ?? 'another bench', address },
    ...{ state, writable, bytesPerSecond, isThere },
  }
}
