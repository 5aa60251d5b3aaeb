import { readFile, rm, stat } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { line } from '@/core/words-schema'
import type { Accessory } from '@/core/things/accessory'
import { type BenchFile, readBenchFile } from '@/core/things/bench-file'
import type { Computer } from '@/core/things/computer'
import { type Drive, hasBytes, type Place } from '@/core/things/drive'
import { writeWhole } from '@/host/whole-file'
import { provider } from '@/outside/provider'
import { database } from '../database'
import { AccessoryRow, BenchRow, ComputerRow, CopyRow, DriveRow, LogRow, MoveRow, SeriesRow } from '../database/models'
import { inTransaction } from '../database/transaction'
import { publish } from '../ground/events'
import { freeId } from '../ground/ids'
import { dataFolder, drivesFolder, imagesFolder } from '../ground/paths'
import { inBenchQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { drivesOfAll } from '../images'
import { imagePath } from '../images/names'
import { driveUse, fileKey } from '../leases'
import { activeBench, benchState } from '.'
import { makeBytes, removeBytes } from './make'
import { thingId } from './things'

/** Where this server gives the JSON schema of a bench file. */
const SCHEMA_ADDRESS = '/api/benches/schema'

const Name = line().trim().min(1, 'A bench needs a name').max(80)

/** All benches, in the order in which they were made. */
export async function listBenches() {
  await database()
  const rows = await BenchRow.findAll({ order: [['position', 'ASC']] })
  const active = await activeBench()
  return rows.map((r) => ({ id: r.id, name: r.name, active: r.id === active.id }))
}

/** Makes an empty bench and shows it. Returns its id. */
export function newBench(input: unknown): Promise<string> {
  return inTransaction(() => makeNewBench(input))
}

async function makeNewBench(input: unknown): Promise<string> {
  if (!provider().isTold) throw new Refusal('bench-is-seen')
  const name = Name.parse(input)
  const id = await addBench(name)
  await showBench(id)
  return id
}

/** Shows another bench on all pages. */
export function showBench(input: unknown): Promise<void> {
  return inTransaction(() => showInTurn(input))
}

async function showInTurn(input: unknown): Promise<void> {
  const id = line().max(80).parse(input)
  await database()
  if (!(await BenchRow.findByPk(id))) throw new Refusal('bench-unknown')
  await BenchRow.update({ active: false }, { where: {} })
  await BenchRow.update({ active: true }, { where: { id } })
  publish({ type: 'changed', moveId: null })
}

export function renameBench(input: unknown): Promise<void> {
  return inBenchQueue(() => renameInTurn(input))
}

async function renameInTurn(input: unknown): Promise<void> {
  const name = Name.parse(input)
  const { id } = await activeBench()
  await refuseName(name, id)
  await BenchRow.update({ name }, { where: { id } })
  publish({ type: 'changed', moveId: null })
}

/** Takes the bench that is shown away with its moves and blank drives; images stay. The last one stays. */
export async function removeBench(input: unknown): Promise<void> {
  const drives = await inTransaction(() => removeInTurn(input))
  for (const { file } of drives) if (file) await removeBytes(file)
}

async function removeInTurn(input: unknown): Promise<readonly Drive[]> {
  const typed = line().max(80).parse(input)
  const { id, name } = await activeBench()
  if (typed !== name) throw new Refusal('bench-name-wrong', { name })
  const others = (await listBenches()).filter((b) => b.id !== id)
  if (others.length === 0) throw new Refusal('bench-last')
  const use = driveUse((await benchState(id)).drives.map((d) => d.id))
  if (use) throw new Refusal('bench-in-use', { purpose: use })
  await showBench(others[0].id)
  return clear(id)
}

/** Takes a bench and all that is on it out of the database. Returns its drives. */
async function clear(benchId: string): Promise<readonly Drive[]> {
  const where = { benchId }
  const moves = (await MoveRow.findAll({ where })).map((m) => m.id)
  const { drives } = await benchState(benchId)
  await Promise.all(
    [ComputerRow, AccessoryRow, DriveRow, MoveRow, SeriesRow].map((r) => (r as typeof DriveRow).destroy({ where })),
  )
  await CopyRow.destroy({ where: { moveId: moves } })
  await LogRow.destroy({ where: { moveId: moves } })
  await BenchRow.destroy({ where: { id: benchId } })
  return drives
}

/** A bench as the text of a bench file. */
export async function exportBench(id: string): Promise<{ name: string; text: string }> {
  await database()
  const row = await BenchRow.findByPk(id)
  if (!row) throw new Refusal('bench-unknown')
  const { computers, accessories, drives } = await benchState(id)
  const file: BenchFile = {
    $schema: SCHEMA_ADDRESS,
    format: 'imbarco bench',
    version: 1,
    name: row.name,
    computers: [...computers],
    accessories: [...accessories],
    drives: await Promise.all(drives.map(inFile)),
  }
  return { name: row.name, text: `${JSON.stringify(file, null, 2)}\n` }
}

/** A drive whose own bytes cannot travel in the file is only described in it, unless nothing was written to it. */
async function inFile({ file, borrowed: _, kernel: __, ...drive }: Drive): Promise<BenchFile['drives'][number]> {
  if (drive.image !== null) return { ...drive, content: 'image' }
  if (!file) return { ...drive, content: 'described' }
  // A file that takes no room on this host was never written to: it reads as zeros throughout.
  const { blocks } = await stat(/* turbopackIgnore: true */ path.join(drivesFolder(), file))
  return { ...drive, content: blocks === 0 ? 'blank' : 'described' }
}

/** What came of an import. */
export interface Imported {
  readonly id: string
  readonly name: string
  /** Drives that have no bytes here. */
  readonly described: number
}

/** Makes a bench from the text of a bench file and shows it. All of it is checked before anything is stored. */
export function importBench(text: string): Promise<Imported> {
  return inBenchQueue(() => importInTurn(text))
}

async function importInTurn(text: string): Promise<Imported> {
  if (!provider().isTold) throw new Refusal('bench-is-seen')
  const file = readBenchFile(text)
  const name = await freeName(file.name)
  const bench = await newRow(name)
  const things = await thingsOf(file)
  const files = things.drives.flatMap((d) => d.file ?? [])
  // What a kill leaves behind is known by this list; rows are there all together, or none of them is.
  await writeWhole(importList(), JSON.stringify(files))
  try {
    for (const drive of things.drives) await makeBytes(drive)
    const rowsOf = <T extends { id: string }>(list: readonly T[]) =>
      list.map((data) => ({ id: data.id, benchId: bench.id, data }))
    await inTransaction(async () => {
      await ComputerRow.bulkCreate(rowsOf(things.computers))
      await AccessoryRow.bulkCreate(rowsOf(things.accessories))
      await DriveRow.bulkCreate(rowsOf(things.drives))
      await BenchRow.create(bench)
    })
  } catch (error) {
    await settleImport()
    throw error
  }
  await rm(importList(), { force: true })
  await showBench(bench.id)
  return { id: bench.id, name, described: things.drives.filter((d) => !hasBytes(d)).length }
}

const importList = () => path.join(dataFolder(), 'import.json')

/** Takes away the drive files of an import that did not come to its end. */
export async function settleImport(): Promise<void> {
  const text = await readFile(importList(), 'utf8').catch(() => undefined)
  if (text === undefined) return
  await database()
  // As they are stored, so that a row that cannot be read keeps its file.
  const kept = (await DriveRow.findAll()).map((row) => row.getDataValue('data') as unknown as string)
  for (const file of z.array(line()).parse(JSON.parse(text))) {
    if (!kept.some((row) => row.includes(JSON.stringify(file)))) await removeBytes(path.basename(file))
  }
  await rm(importList(), { force: true })
}

/** The things of a file under ids of their own. Nothing is stored. */
async function thingsOf(
  file: BenchFile,
): Promise<{ computers: Computer[]; accessories: Accessory[]; drives: Drive[] }> {
  const computerIds = new Map<string, string>()
  const accessoryIds = new Map<string, string>()
  const computers: Computer[] = []
  const accessories: Accessory[] = []
  const drives: Drive[] = []
  for (const computer of file.computers) {
    const id = await thingId(ComputerRow, computer.id, computers)
    computerIds.set(computer.id, id)
    computers.push({ ...computer, id, isThis: undefined, running: 'off', mains: false })
  }
  for (const accessory of file.accessories) {
    const id = await thingId(AccessoryRow, accessory.id, accessories)
    accessoryIds.set(accessory.id, id)
    accessories.push({ ...accessory, id })
  }
  for (const computer of computers)
    if (computer.farBenchId !== undefined) computer.farBenchId = accessoryIds.get(computer.farBenchId)
  // By what the files are, so that two names of one image do not stand for two drives.
  const images = (await drivesOfAll()).flatMap((drive) => drive.image ?? [])
  const taken = new Set(images.map((image) => fileKey(path.join(imagesFolder(), image))))
  for (const drive of file.drives) {
    const id = await thingId(DriveRow, drive.id, drives)
    const image = drive.content === 'image' && drive.image ? await freeImage(path.basename(drive.image), taken) : null
    drives.push(driveFrom(drive, id, { computers: computerIds, accessories: accessoryIds }, image))
  }
  return { computers, accessories, drives }
}

function driveFrom(
  { content, ...drive }: BenchFile['drives'][number],
  id: string,
  ids: Readonly<Record<'computers' | 'accessories', ReadonlyMap<string, string>>>,
  image: string | null,
): Drive {
  const place: Place =
    drive.place.kind === 'slot'
      ? { ...drive.place, computerId: ids.computers.get(drive.place.computerId)! }
      : 'accessoryId' in drive.place
        ? { ...drive.place, accessoryId: ids.accessories.get(drive.place.accessoryId)! }
        : drive.place
  return {
    ...drive,
    id,
    place,
    file: content === 'blank' ? `${id}.img` : null,
    image,
  }
}

/**
 * The image of that name, which is taken from then on; null where there is none in the images folder, or where it
 * stands for a drive already: a second one is only described.
 */
async function freeImage(name: string, taken: Set<string>): Promise<string | null> {
  const place = await imagePath(name).catch(() => undefined)
  if (place === undefined || taken.has(fileKey(place))) return null
  taken.add(fileKey(place))
  return name
}

async function addBench(name: string): Promise<string> {
  const row = await newRow(name)
  await BenchRow.create(row)
  return row.id
}

/** The row of a new bench. Throws Refusal when the name is taken. */
async function newRow(name: string) {
  await refuseName(name, undefined)
  const id = await freeId(name, 'bench', async (taken) => (await BenchRow.findByPk(taken)) !== null)
  const last = (await BenchRow.max('position')) as number | null
  return { id, name, position: (last ?? -1) + 1, active: false }
}

async function refuseName(name: string, besides: string | undefined): Promise<void> {
  await database()
  const same = (await BenchRow.findAll()).find((b) => b.name.toLowerCase() === name.toLowerCase() && b.id !== besides)
  if (same) throw new Refusal('bench-name-taken', { name: same.name })
}

async function freeName(name: string): Promise<string> {
  await database()
  const names = new Set((await BenchRow.findAll()).map((b) => b.name.toLowerCase()))
  let free = name
  for (let n = 2; names.has(free.toLowerCase()); n++) free = `${name} (${n})`
  return free
}
