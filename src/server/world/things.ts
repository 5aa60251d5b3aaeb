import * as z from 'zod'
import { line } from '@/core/words-schema'
import type { DRIVE_MODELS } from '@/bench/catalogue'
import { HealthSchema } from '@/core/health/health'
import { legsOf } from '@/core/route/types'
import { type Accessory, AccessorySchema, baysOf } from '@/core/things/accessory'
import { type BenchState, farBenchOf, placeName } from '@/core/things/bench'
import { BodySchema, ProtocolSchema, type Slot, whyNotInto } from '@/core/things/bodies'
import { type Computer, ComputerSchema } from '@/core/things/computer'
import { type Drive, driveName, DriveSchema, FaultsSchema } from '@/core/things/drive'
import { isPort } from '@/host/devices/things'
import { provider } from '@/outside/provider'
import { database } from '../database'
import { AccessoryRow, ComputerRow, DriveRow, MoveRow } from '../database/models'
import { publish } from '../ground/events'
import { freeId } from '../ground/ids'
import { inBenchQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { driveUse, leasableDrive, withLease } from '../leases'
import { activeBench, benchState, changeComputer, computerById, driveById, drivesInside } from '.'
import { driveOfModel, putOnBench } from './image-drives'
import { makeBytes, removeBytes } from './make'

// What a person adds to the bench, changes and takes away. Everything is checked before anything is stored.

/** Stores a computer: one with an id that is on the bench is changed, any other is new. Returns its id. */
export function saveComputer(input: unknown): Promise<string> {
  return inBenchQueue(() => storeComputer(input))
}

async function storeComputer(input: unknown): Promise<string> {
  const wanted = ComputerSchema.extend({ id: line().max(80) }).parse(input)
  const { id: benchId } = await activeBench()
  const computer: Computer = { ...wanted, id: wanted.id || (await thingId(ComputerRow, wanted.name)) }
  refuseTwice(
    computer.slots.map((s) => s.id),
    'slot',
  )
  if (!computer.slots.some((s) => s.id === computer.homeSlot))
    throw new Refusal('computer-no-home-slot', { computer: computer.name, slot: computer.homeSlot })
  const bench = await benchState()
  for (const drive of bench.drives) {
    if (drive.place.kind !== 'slot' || drive.place.computerId !== computer.id) continue
    refuseSeat(drive, computer.slots, drive.place.slot, computer.name)
  }
  refuseElsewhere(computer, bench)
  const old = bench.computers.find((c) => c.id === computer.id)
  // What it is doing is not part of its description.
  const data: Computer = {
    ...{ ...computer, isThis: undefined, running: old?.running ?? 'off', mains: old?.mains ?? false },
    ...(old?.isThis ? { isThis: true, slots: old.slots, firmware: old.firmware } : {}),
  }
  await ComputerRow.upsert({ id: data.id, benchId, data })
  publish({ type: 'changed', moveId: null })
  return data.id
}

/** Where it stands there has to be a bench, and what another bench lends does not come along with its computer. */
function refuseElsewhere({ id, name, farBenchId }: Computer, bench: BenchState): void {
  if (farBenchId !== undefined && !farBenchOf(farBenchId, bench)) throw new Refusal('thing-unknown')
  const lent = bench.drives.find(
    ({ place, borrowed }) =>
      borrowed && place.kind === 'slot' && place.computerId === id && borrowed.farBenchId !== farBenchId,
  )
  if (lent) throw new Refusal('computer-with-lent', { computer: name, drive: driveName(lent) })
}

/** Stores an accessory, new or changed. Returns its id. */
export function saveAccessory(input: unknown): Promise<string> {
  return inBenchQueue(() => storeAccessory(input))
}

async function storeAccessory(input: unknown): Promise<string> {
  const wanted = z
    .object({ id: line().max(80) })
    .loose()
    .parse(input)
  if (isPort(wanted.id)) throw new Refusal('thing-is-seen')
  const name = z.object({ name: line() }).parse(input).name
  const accessory: Accessory = AccessorySchema.parse({
    ...wanted,
    id: wanted.id || (await thingId(AccessoryRow, name)),
  })
  const { id: benchId } = await activeBench()
  refuseTwice(
    baysOf(accessory).map((b) => b.id),
    'bay',
  )
  for (const drive of (await benchState()).drives) {
    if (drive.place.kind !== 'bay' || drive.place.accessoryId !== accessory.id) continue
    refuseSeat(drive, baysOf(accessory), drive.place.bay, accessory.name)
  }
  await AccessoryRow.upsert({ id: accessory.id, benchId, data: accessory })
  publish({ type: 'changed', moveId: null })
  return accessory.id
}

export const MODEL_IDS = [
  'sata-ssd',
  'disk-25',
  'disk-35',
  'nvme',
  'm2-sata',
  'blade',
  'emmc',
] as const satisfies readonly (keyof typeof DRIVE_MODELS)[]

export const NewDriveSchema = z.discriminatedUnion('from', [
  z.object({ from: z.literal('image'), image: line().max(180), kind: z.enum(MODEL_IDS) }),
  z.object({
    from: z.literal('blank'),
    kind: z.enum(MODEL_IDS),
    model: line().trim().min(1).max(80),
    serial: line().trim().min(4, 'The serial has at least four characters').max(40),
    sizeBytes: z
      .number()
      .int()
      .min(1_048_576, 'A drive holds at least 1 MiB')
      .max(64e12, 'A drive holds at most 64 TB'),
    logicalSectorSize: z.union([z.literal(512), z.literal(4096)]),
    purpose: z.enum(['customer', 'transfer']),
  }),
])

/** Puts a new drive on the table: an image that stands for one, or a blank one. Returns its id. */
export function addDrive(input: unknown): Promise<string> {
  return inBenchQueue(() => storeDrive(input))
}

async function storeDrive(input: unknown): Promise<string> {
  const wanted = NewDriveSchema.parse(input)
  if (wanted.from === 'image') return putOnBench({ image: wanted.image, model: wanted.kind })
  if (!provider().isTold) throw new Refusal('drives-are-seen')
  await refuseSerial(wanted.serial, undefined)
  const id = await thingId(DriveRow, wanted.serial)
  const { model, serial, logicalSectorSize, purpose } = wanted
  const drive: Drive = {
    ...driveOfModel(wanted.kind),
    id,
    model,
    serial,
    sizeBytes: Math.floor(wanted.sizeBytes / logicalSectorSize) * logicalSectorSize,
    logicalSectorSize,
    physicalSectorSize: 4096,
    encrypted: false,
    purpose,
    unreadable: [],
    misstores: [],
    file: `${id}.img`,
    image: null,
    place: { kind: 'table' },
  }
  await makeBytes(drive)
  await DriveRow.create({ id, benchId: (await activeBench()).id, data: drive })
  publish({ type: 'changed', moveId: null })
  return id
}

/** What can be changed of a drive: its description, not its bytes. */
export const DriveChangeSchema = z.object({
  id: line().max(80),
  model: DriveSchema.shape.model,
  serial: line().trim().min(4, 'The serial has at least four characters').max(80),
  kind: DriveSchema.shape.kind,
  body: BodySchema,
  protocol: ProtocolSchema,
  readBytesPerSecond: DriveSchema.shape.readBytesPerSecond,
  writeBytesPerSecond: DriveSchema.shape.writeBytesPerSecond,
  requestSeconds: DriveSchema.shape.requestSeconds,
  purpose: z.enum(['customer', 'transfer']),
  health: HealthSchema.optional(),
  unreadable: FaultsSchema,
  misstores: FaultsSchema,
})

export async function changeDrive(input: unknown): Promise<void> {
  const changes = DriveChangeSchema.parse(input)
  const write = [await leasableDrive(await driveById(changes.id))]
  await withLease({ purpose: 'a change of its description', write }, () => inBenchQueue(() => storeChanges(changes)))
}

async function storeChanges(changes: z.infer<typeof DriveChangeSchema>): Promise<void> {
  const drive = await driveById(changes.id)
  if (drive.kernel) {
    // What it says of itself, and how it reads, is not for a person to say.
    await changeSeen(drive, changes)
    return
  }
  await refuseSerial(changes.serial, drive.id)
  const sectors = drive.sizeBytes / drive.logicalSectorSize
  for (const { firstLba, count } of [...changes.unreadable, ...changes.misstores])
    if (firstLba + count > sectors) throw new Refusal('fault-behind-end', { lba: firstLba + count - 1, sectors })
  const data: Drive = { ...drive, ...changes }
  const { place } = data
  const bench = await benchState()
  if (place.kind === 'slot') {
    const computer = bench.computers.find((c) => c.id === place.computerId)
    if (computer) refuseSeat(data, computer.slots, place.slot, computer.name)
  }
  if (place.kind === 'bay') {
    const accessory = bench.accessories.find((a) => a.id === place.accessoryId)
    if (accessory) refuseSeat(data, baysOf(accessory), place.bay, accessory.name)
  }
  await DriveRow.update({ data }, { where: { id: drive.id } })
  publish({ type: 'changed', moveId: null })
}

async function changeSeen(drive: Drive, changes: z.infer<typeof DriveChangeSchema>): Promise<void> {
  const { kind, body, purpose } = changes
  await DriveRow.update({ data: { ...drive, kind, body, purpose } }, { where: { id: drive.id } })
  publish({ type: 'changed', moveId: null })
}

export const RemoveSchema = z.object({ kind: z.enum(['computer', 'accessory', 'drive']), id: line().max(80) })

/** Takes a thing off the bench for good, unless something rests on it. The file of a blank drive goes with it. */
export async function removeThing(input: unknown): Promise<void> {
  const thing = RemoveSchema.parse(input)
  const write = thing.kind === 'drive' ? [await leasableDrive(await driveById(thing.id))] : []
  await withLease({ purpose: 'its removal', write }, () => inBenchQueue(() => remove(thing)))
}

async function remove({ kind, id }: z.infer<typeof RemoveSchema>): Promise<void> {
  const bench = await benchState()
  const isThis = kind === 'computer' && bench.computers.some((c) => c.id === id && c.isThis)
  if (isThis || (kind === 'accessory' && isPort(id))) throw new Refusal('thing-is-seen')
  if (kind === 'drive') {
    const drive = await driveById(id)
    if (drive.kernel?.path) throw new Refusal('drive-seen-there', { drive: driveName(drive), path: drive.kernel.path })
    await refuseInUse((row) => driveIdsOf(row).includes(id), `The ${driveName(drive)}`)
    await DriveRow.destroy({ where: { id } })
    if (drive.file) await removeBytes(drive.file)
  } else {
    const holder = bench.drives.find(
      (d) =>
        (d.place.kind === 'slot' && kind === 'computer' && d.place.computerId === id) ||
        (kind === 'accessory' &&
          (('accessoryId' in d.place && d.place.accessoryId === id) || d.borrowed?.farBenchId === id)),
    )
    if (holder?.borrowed && kind === 'accessory') throw new Refusal('bench-lends', { drive: driveName(holder) })
    if (holder)
      throw new Refusal('drive-in-place', { drive: driveName(holder), place: `the ${placeName(holder.place, bench)}` })
    if (kind === 'computer') {
      const { name, isThis } = await computerById(id)
      if (isThis) throw new Refusal('computer-is-this', { computer: name })
      await refuseInUse((row) => row.brief.computerId === id || row.brief.targetComputerId === id, `The ${name}`)
    } else {
      const accessory = bench.accessories.find((a) => a.id === id)
      if (!accessory) throw new Refusal('thing-unknown')
      const standing = bench.computers.find((c) => c.farBenchId === id)
      if (standing) throw new Refusal('computer-there', { computer: standing.name, bench: accessory.name })
      await refuseInUse((row) => row.route?.plan.things.includes(id) === true, `The ${accessory.name}`)
    }
    await (kind === 'computer' ? ComputerRow.destroy({ where: { id } }) : AccessoryRow.destroy({ where: { id } }))
  }
  publish({ type: 'changed', moveId: null })
}

export const PowerSchema = z.object({ computerId: line().max(80), mains: z.boolean() })

/** Shuts a computer down and pulls its mains cable, or plugs it in again. */
export function setPower(input: unknown): Promise<void> {
  return inBenchQueue(() => switchPower(input))
}

async function switchPower(input: unknown): Promise<void> {
  const { computerId, mains } = PowerSchema.parse(input)
  const computer = await computerById(computerId)
  const bench = await benchState()
  const use = driveUse(drivesInside(bench, computerId), { needsPower: true })
  if (use && !mains) throw new Refusal('computer-in-use', { computer: computer.name, purpose: use })
  await changeComputer(computerId, mains ? { mains } : { mains, running: 'off' })
}

function driveIdsOf({ brief, route }: MoveRow): string[] {
  const via = route
    ? legsOf(route.plan).legs.flatMap((l) => (l.transfer.to.kind === 'drive' ? [l.transfer.to.driveId] : []))
    : []
  return [...brief.pairs.flatMap((p) => [p.sourceId, ...(p.targetId === null ? [] : [p.targetId])]), ...via]
}

async function refuseInUse(uses: (row: MoveRow) => boolean, what: string): Promise<void> {
  await database()
  const row = (await MoveRow.findAll()).find((r) => !r.handover && r.standing?.kind !== 'given-up' && uses(r))
  if (row) throw new Refusal('thing-of-move', { thing: what, move: row.brief.name, customer: row.brief.customer })
}

function refuseTwice(ids: readonly string[], what: string): void {
  const twice = ids.find((id, i) => ids.indexOf(id) < i)
  if (twice !== undefined) throw new Refusal('place-names-alike', { name: twice, kind: what })
}

/** A drive that sits somewhere must still go in there after a change. */
function refuseSeat(drive: Drive, slots: readonly Slot[], slotId: string, owner: string): void {
  const slot = slots.find((s) => s.id === slotId)
  if (!slot) throw new Refusal('drive-in-place', { drive: driveName(drive), place: `${slotId} of the ${owner}` })
  const misfit = whyNotInto(drive, slot, 1)
  if (misfit)
    throw new Refusal('drive-would-not-fit', {
      drive: driveName(drive),
      place: `${slotId} of the ${owner}`,
      why: misfit.sentence,
    })
}

export async function refuseSerial(serial: string, besides: string | undefined): Promise<void> {
  const twin = (await benchState()).drives.find(
    (d) => d.serial.toUpperCase() === serial.toUpperCase() && d.id !== besides,
  )
  if (twin) throw new Refusal('serial-taken', { drive: driveName(twin) })
}

/** An id for a new thing, from its name: none that is stored, and none of those that are about to be. */
export async function thingId(
  rows: ThingRows,
  name: string,
  besides: readonly { readonly id: string }[] = [],
): Promise<string> {
  await database()
  const isBeside = new Set(besides.map((thing) => thing.id))
  // The three tables are alike in what is asked of them here.
  const isStored = async (id: string) => (await (rows as typeof DriveRow).count({ where: { id } })) > 0
  return freeId(name, 'thing', async (id) => isBeside.has(id) || (await isStored(id)))
}
export type ThingRows = typeof ComputerRow | typeof AccessoryRow | typeof DriveRow
