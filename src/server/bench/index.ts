import { existsSync } from 'node:fs'
import { rm, mkdir } from 'node:fs/promises'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { readOnly } from '@/core/block/readonly'
import { berthOf, driveName, whyNotThere } from '@/bench/places'
import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { SparseFileDevice } from '@/bench/sparse-file'
import { SCENARIO_MOVES } from '@/bench/scenario/moves'
import { SCENARIO_BENCH, SCENARIO_START } from '@/bench/scenario/things'
import { DISK_MAKERS } from '@/bench/scenario/disks'
import { makeScenarioImages } from '@/bench/scenario/images'
import type { BenchState, Computer, Drive, Place } from '@/bench/types'
import { database } from '../database'
import { AccessoryRow, ClockRow, ComputerRow, DriveRow, MoveRow } from '../database/models'
import { publish } from '../events'
import { drivesFolder, imagesFolder } from '../paths'
import { Refusal } from '../refusal'
import { singleton } from '../singleton'

/** Makes the demo bench when there is none: things, moves and the drives' bytes. True when it was made. */
export async function makeBench(): Promise<boolean> {
  await database()
  if ((await MoveRow.count()) > 0) {
    await giveBytes()
    return false
  }
  for (const drive of SCENARIO_BENCH.drives) await makeBytes(drive)
  await makeScenarioImages(await scenarioImagesFolder())
  for (const data of SCENARIO_BENCH.computers) await ComputerRow.upsert({ id: data.id, data })
  for (const data of SCENARIO_BENCH.accessories) await AccessoryRow.upsert({ id: data.id, data })
  for (const data of SCENARIO_BENCH.drives) await DriveRow.upsert({ id: data.id, data })
  await ClockRow.upsert({ id: 1, at: SCENARIO_START, pace: '30' })
  const empty = {
    intake: null,
    survey: null,
    route: null,
    fit: null,
    ready: null,
    swap: null,
    proof: null,
    handover: null,
  }
  for (const [position, [id, brief]] of Object.entries(SCENARIO_MOVES).entries()) {
    await MoveRow.upsert({ id, position, brief, ...empty })
  }
  return true
}

/** Writes the file of a drive of the scenario anew. */
async function makeBytes({ id, file, sizeBytes, logicalSectorSize, physicalSectorSize }: Drive): Promise<void> {
  if (!file) return
  await mkdir(drivesFolder(), { recursive: true })
  const place = path.join(drivesFolder(), file)
  await rm(place, { force: true })
  const device = await SparseFileDevice.create(place, sizeBytes, { logicalSectorSize, physicalSectorSize })
  await DISK_MAKERS[id]?.(device)
  await device.close()
}

/** A bench from when some drives were only described gets their bytes; where they are is left as it is. */
async function giveBytes(): Promise<void> {
  const { drives } = await benchState()
  for (const drive of drives.filter((d) => d.file === null && d.image === null)) {
    const made = SCENARIO_BENCH.drives.find((d) => d.id === drive.id)
    if (!made) continue
    await makeBytes(made)
    const data: Drive = { ...drive, file: made.file, health: made.health, unreadable: made.unreadable }
    await DriveRow.update({ data }, { where: { id: drive.id } })
  }
}

/** The images folder, made when there is none. */
async function scenarioImagesFolder(): Promise<string> {
  const folder = imagesFolder()
  await mkdir(folder, { recursive: true })
  return folder
}

/** Everything on the bench as it is now. */
export async function benchState(): Promise<BenchState> {
  await database()
  const [computers, accessories, drives] = await Promise.all([
    ComputerRow.findAll(),
    AccessoryRow.findAll(),
    DriveRow.findAll(),
  ])
  return {
    computers: computers.map((r) => r.data),
    accessories: accessories.map((r) => r.data),
    drives: drives.map((r) => r.data),
  }
}

export async function driveById(id: string): Promise<Drive> {
  await database()
  const row = await DriveRow.findByPk(id)
  if (!row) throw new Refusal('There is no such drive on the bench.', 404)
  return row.data
}

export async function computerById(id: string): Promise<Computer> {
  await database()
  const row = await ComputerRow.findByPk(id)
  if (!row) throw new Refusal('There is no such computer on the bench.', 404)
  return row.data
}

export async function changeComputer(id: string, changes: Partial<Computer>): Promise<void> {
  const data = await computerById(id)
  await ComputerRow.update({ data: { ...data, ...changes } }, { where: { id } })
  publish({ type: 'changed', moveId: null })
}

/** Called when a drive leaves its place, so that whoever uses it can let go. */
type DetachListener = (driveId: string, name: string) => void
const listeners = () => singleton('detach', () => new Set<DetachListener>())

/** Calls `listener` for every drive that leaves its place, until the returned function is called. */
export function onDetach(listener: DetachListener): () => void {
  listeners().add(listener)
  return () => listeners().delete(listener)
}

/** Puts a drive somewhere else. Throws Refusal when it cannot go there. */
export async function placeDrive(id: string, place: Place, shelf?: Drive['shelf']): Promise<Drive> {
  const drive = await driveById(id)
  const bench = await benchState()
  const why = whyNotThere(drive, place, bench)
  if (why) throw new Refusal(why)
  if (drive.place.kind === 'slot') {
    const { computerId } = drive.place
    const computer = bench.computers.find((c) => c.id === computerId)
    if (computer?.mains)
      throw new Refusal(`The ${computer.name} has mains power: pull the cable before a drive is taken out.`)
  }
  const name = `The ${driveName(drive)} (${berthOf(drive.place, bench).name})`
  const data: Drive = { ...drive, place, shelf }
  await DriveRow.update({ data }, { where: { id } })
  for (const listener of listeners()) listener(id, name)
  publish({ type: 'changed', moveId: null })
  return data
}

/** How a drive is opened. Throws Refusal for one that is only described. */
export function driveBytes(drive: Drive): DriveBytes {
  const { logicalSectorSize, physicalSectorSize, unreadable } = drive
  const common = { logicalSectorSize, physicalSectorSize, unreadable }
  if (drive.image !== null) return { ...common, file: path.join(imagesFolder(), drive.image), isImage: true }
  if (!drive.file) throw new Refusal(`The ${driveName(drive)} is only described here; there are no bytes to read.`)
  return { ...common, file: path.join(drivesFolder(), drive.file), isImage: false }
}

/** Opens a drive for reading, hands it to `work` and closes it. */
export async function withDrive<T>(drive: Drive, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  const bytes = driveBytes(drive)
  if (!existsSync(/* turbopackIgnore: true */ bytes.file)) {
    throw new Refusal(
      bytes.isImage
        ? `The image ${drive.image} that stands for the ${driveName(drive)} is no longer in the images folder.`
        : `The bytes of the ${driveName(drive)} are missing from the data folder. Make the bench anew with "npm run demo -- --reset".`,
    )
  }
  const opened = await openDrive(bytes, { writable: false })
  try {
    return await work(readOnly(opened.device))
  } finally {
    await opened.close()
  }
}
