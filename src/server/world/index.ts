import { existsSync } from 'node:fs'
import { type DriveBytes, type OpenDrive, openToLook } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { orUndefined } from '@/core/errors'
import { type BenchState, berthOf, whyNotThere, whySeenOnly } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName, isWithinReach, type Place } from '@/core/things/drive'
import { database } from '../database'
import { readable } from '../database/readable'
import { AccessoryRow, BenchRow, ComputerRow, DriveRow, thingsVersion } from '../database/models'
import { driveBytes } from '../ground/drive-files'
import { publish } from '../ground/events'
import { inBenchQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import type { Subject } from '../jobs/threads/tasks/subject'
import { cutByPulling, whyNotPulled } from '../leases'

export { driveBytes } from '../ground/drive-files'

/** The bench that the pages show. */
export async function activeBench(): Promise<{ id: string; name: string }> {
  await database()
  const row = (await BenchRow.findOne({ where: { active: true } })) ?? (await BenchRow.findOne())
  if (!row) throw new Refusal('no-bench')
  return { id: row.id, name: row.name }
}

export async function benchName(id: string): Promise<string> {
  await database()
  return (await BenchRow.findByPk(id))?.name ?? ''
}

/** Name and address of the shop that a bench stands in, as its sheets have them; null where nobody has said. */
export async function benchShop(id: string): Promise<string | null> {
  await database()
  return (await BenchRow.findByPk(id))?.shop ?? null
}

interface Read {
  readonly version: number
  readonly state: Promise<BenchRead>
}

const statesRead = () => singleton('bench-states', () => new Map<string, Read>())

/** What is stored of a bench. A thing that does not have its form is left out, and keeps nobody from the others. */
export interface BenchRead extends BenchState {
  /** Ids of those that were left out. */
  readonly unreadable: readonly string[]
}

/** Everything on a bench as it is now; on the one that the pages show when none is named. Read once for each state of the things. */
export async function benchState(benchId?: string): Promise<BenchRead> {
  await database()
  const id = benchId ?? (await activeBench()).id
  const version = thingsVersion()
  const before = statesRead().get(id)
  if (before?.version === version) return before.state
  const state = readBench(id)
  statesRead().set(id, { version, state })
  state.catch(() => statesRead().delete(id))
  return state
}

async function readBench(benchId: string): Promise<BenchRead> {
  const where = { benchId }
  const [computers, accessories, drives] = await Promise.all([
    ComputerRow.findAll({ where }),
    AccessoryRow.findAll({ where }),
    DriveRow.findAll({ where }),
  ])
  const unreadable: string[] = []
  const of = <T>(rows: readonly { readonly id: string; readonly data: T }[]) => {
    const read = readable(rows, (row) => row.data)
    unreadable.push(...read.unreadable)
    return read.found
  }
  return { computers: of(computers), accessories: of(accessories), drives: of(drives), unreadable }
}

async function driveRow(id: string): Promise<DriveRow> {
  await database()
  const row = await DriveRow.findByPk(id)
  if (!row) throw new Refusal('drive-unknown')
  return row
}

export async function driveById(id: string): Promise<Drive> {
  return (await driveRow(id)).data
}

/** The id of the bench that a drive is on. */
export async function benchOf(driveId: string): Promise<{ benchId: string }> {
  const { benchId } = await driveRow(driveId)
  return { benchId }
}

/** The bench that a drive is on. */
export async function benchOfDrive(id: string): Promise<BenchState> {
  return benchState((await driveRow(id)).benchId)
}

/** The bench that a computer is on. */
export async function benchOfComputer(id: string): Promise<BenchState> {
  await database()
  const row = await ComputerRow.findByPk(id)
  if (!row) throw new Refusal('computer-unknown')
  return benchState(row.benchId)
}

export async function computerById(id: string): Promise<Computer> {
  await database()
  const row = await ComputerRow.findByPk(id)
  if (!row) throw new Refusal('computer-unknown')
  return row.data
}

export async function changeComputer(id: string, changes: Partial<Computer>): Promise<void> {
  await inBenchQueue(async () => {
    const data = await computerById(id)
    const { running, mains, batteryOut, firmware } = data
    // What the computer is doing that Imbarco runs on is seen, and nobody's word changes that.
    const seen = data.isThis ? { running, mains, batteryOut, firmware } : {}
    await ComputerRow.update({ data: { ...data, ...changes, ...seen } }, { where: { id } })
  })
  publish({ type: 'changed', moveId: null })
}

/** The drives in a computer's slots, by id. */
export function drivesInside({ drives }: BenchState, computerId: string): string[] {
  return drives.filter((d) => d.place.kind === 'slot' && d.place.computerId === computerId).map((d) => d.id)
}

/** Called when a drive leaves its place, so that whoever uses it can let go. */
type DetachListener = (driveId: string, name: string) => void
const listeners = () => singleton('detach', () => new Set<DetachListener>())

/** Calls `listener` for every drive that leaves its place, until the returned function is called. */
export function onDetach(listener: DetachListener): () => void {
  listeners().add(listener)
  return () => listeners().delete(listener)
}

/** Says that a drive has left its place, which whoever uses it there has to know. */
export function tellDetached(driveId: string, name: string): void {
  for (const listener of listeners()) listener(driveId, name)
}

/** Puts a drive somewhere else. Throws Refusal when it cannot go there, or is in use by what holds it there. */
export function placeDrive(id: string, place: Place, shelf?: Drive['shelf']): Promise<Drive> {
  return inBenchQueue(() => placeInTurn(id, place, shelf))
}

/** The same by hand: where that cuts something off, such as a copy, it was said to be meant. Throws Refusal. */
export function placeByHand(id: string, place: Place, meant: boolean): Promise<Drive> {
  return inBenchQueue(async () => {
    const cut = cutByPulling(id)
    if (cut !== undefined && !meant) throw new Refusal('drive-cuts-off', { drive: driveName(await driveById(id)), cut })
    return placeInTurn(id, place, undefined)
  })
}

async function placeInTurn(id: string, place: Place, shelf: Drive['shelf']): Promise<Drive> {
  const drive = await driveById(id)
  const bench = await benchOfDrive(id)
  const why = whySeenOnly(drive, place, bench) ?? whyNotPulled(drive) ?? whyNotThere(drive, place, bench)
  if (why) throw new Refusal('drive-stays', { why })
  const name = `The ${driveName(drive)} (${berthOf(drive, bench).name})`
  const data: Drive = { ...drive, place, shelf }
  await DriveRow.update({ data }, { where: { id } })
  tellDetached(id, name)
  publish({ type: 'changed', moveId: null })
  return data
}

/** A drive as a thread of its own opens it. Throws Refusal where its bytes are gone. */
export function driveSubject(drive: Drive): Subject {
  return { kind: 'drive', drive: bytesOnDisk(drive) }
}

/** Opens a drive to look around in it; undefined for one of this computer that is not plugged in, or not any more. */
export async function openIfHere(drive: Drive): Promise<OpenDrive | undefined> {
  if (!drive.kernel) return openToLook(driveBytes(drive))
  // Between two looks at what is plugged in, it may have gone.
  return isWithinReach(drive) ? openToLook(driveBytes(drive)).catch(orUndefined) : undefined
}

/** Opens a drive for reading, hands it to `work` and closes it. For what reads little. */
export async function withDrive<T>(drive: Drive, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  const opened = await openToLook(bytesOnDisk(drive))
  try {
    return await work(opened.device)
  } finally {
    await opened.close()
  }
}

/** What opens a drive's bytes. Throws Refusal where they are gone. */
export function bytesOnDisk(drive: Drive): DriveBytes {
  const bytes = driveBytes(drive)
  if (bytes.by === 'network' || bytes.by === 'kernel') return bytes
  if (!existsSync(/* turbopackIgnore: true */ bytes.file)) {
    const name = driveName(drive)
    if (drive.image === null) throw new Refusal('drive-bytes-missing', { drive: name })
    throw new Refusal('drive-image-missing', { drive: name, image: drive.image })
  }
  return bytes
}
