import { existsSync } from 'node:fs'
import { rm, stat } from 'node:fs/promises'
import path from 'node:path'
import { z } from 'zod'
import { type BenchFile, readBenchFile } from '@/core/things/bench-file'
import { type Drive, hasBytes, type Place } from '@/core/things/drive'
import { activeBench, benchState } from '.'
import { running } from '../copy/current'
import { database } from '../database'
import { AccessoryRow, BenchRow, ComputerRow, CopyRow, DriveRow, LogRow, MoveRow } from '../database/models'
import { publish } from '../events'
import { freeId } from '../ids'
import { drivesFolder, imagesFolder } from '../paths'
import { Refusal } from '../refusal'
import { makeBytes } from './make'
import { thingId } from './things'

/** Where this server gives the JSON schema of a bench file. */
const SCHEMA_ADDRESS = '/api/benches/schema'

const Name = z.string().trim().min(1, 'A bench needs a name').max(80)

/** All benches, in the order in which they were made. */
export async function listBenches() {
  await database()
  const rows = await BenchRow.findAll({ order: [['position', 'ASC']] })
  const active = await activeBench()
  return rows.map((r) => ({ id: r.id, name: r.name, active: r.id === active.id }))
}

/** Makes an empty bench and shows it. Returns its id. */
export async function newBench(input: unknown): Promise<string> {
  const name = Name.parse(input)
  const id = await addBench(name)
  await showBench(id)
  return id
}

/** Shows another bench on all pages. */
export async function showBench(input: unknown): Promise<void> {
  const id = z.string().max(80).parse(input)
  await database()
  if (!(await BenchRow.findByPk(id))) throw new Refusal('There is no such bench.', 404)
  await BenchRow.update({ active: false }, { where: {} })
  await BenchRow.update({ active: true }, { where: { id } })
  publish({ type: 'changed', moveId: null })
}

export async function renameBench(input: unknown): Promise<void> {
  const name = Name.parse(input)
  const { id } = await activeBench()
  await refuseName(name, id)
  await BenchRow.update({ name }, { where: { id } })
  publish({ type: 'changed', moveId: null })
}

/** Takes the bench that is shown away with its moves and blank drives; images stay. The last one stays. */
export async function removeBench(input: unknown): Promise<void> {
  const typed = z.string().max(80).parse(input)
  const { id, name } = await activeBench()
  if (typed !== name) throw new Refusal(`That is not the name of this bench, ${name}. Nothing was taken away.`)
  const others = (await listBenches()).filter((b) => b.id !== id)
  if (others.length === 0) throw new Refusal('This is the only bench. Make another one first.')
  const moves = (await MoveRow.findAll({ where: { benchId: id } })).map((m) => m.id)
  if (moves.some((m) => running().has(m))) throw new Refusal('A copy runs on this bench. Stop it first.')
  await showBench(others[0].id)
  await clear(id)
}

/** Takes a bench and all that is on it out of the database, and the files of its own drives from the disk. */
async function clear(benchId: string): Promise<void> {
  const where = { benchId }
  const moves = (await MoveRow.findAll({ where })).map((m) => m.id)
  const { drives } = await benchState(benchId)
  await Promise.all(
    [ComputerRow, AccessoryRow, DriveRow, MoveRow].map((r) => (r as typeof DriveRow).destroy({ where })),
  )
  await CopyRow.destroy({ where: { moveId: moves } })
  await LogRow.destroy({ where: { moveId: moves } })
  await BenchRow.destroy({ where: { id: benchId } })
  for (const { file } of drives) {
    if (!file) continue
    await rm(path.join(drivesFolder(), file), { force: true })
    await rm(path.join(drivesFolder(), `${file}.map`), { force: true })
  }
}

/** A bench as the text of a bench file. */
export async function exportBench(id: string): Promise<{ name: string; text: string }> {
  await database()
  const row = await BenchRow.findByPk(id)
  if (!row) throw new Refusal('There is no such bench.', 404)
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
async function inFile({ file, ...drive }: Drive): Promise<BenchFile['drives'][number]> {
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
export async function importBench(text: string): Promise<Imported> {
  const file = readBenchFile(text)
  const benchId = await addBench(await freeName(file.name))
  try {
    await saveFindings(file, benchId)
  } catch (error) {
    await clear(benchId)
    throw error
  }
  await showBench(benchId)
  const { drives } = await benchState(benchId)
  const { name } = await activeBench()
  return { id: benchId, name, described: drives.filter((d) => !hasBytes(d)).length }
}

/** Stores the things of a file under ids of their own. */
async function saveFindings(file: BenchFile, benchId: string): Promise<void> {
  const computers = new Map<string, string>()
  const accessories = new Map<string, string>()
  for (const computer of file.computers) {
    const id = await thingId(ComputerRow, computer.id)
    computers.set(computer.id, id)
    await ComputerRow.create({ id, benchId, data: { ...computer, id, running: 'off', mains: false } })
  }
  for (const accessory of file.accessories) {
    const id = await thingId(AccessoryRow, accessory.id)
    accessories.set(accessory.id, id)
    await AccessoryRow.create({ id, benchId, data: { ...accessory, id } })
  }
  const taken = new Set((await DriveRow.findAll()).map((r) => r.data.image))
  for (const drive of file.drives) {
    const id = await thingId(DriveRow, drive.id)
    const data = driveFrom(drive, id, { computers, accessories }, taken)
    await makeBytes(data)
    await DriveRow.create({ id, benchId, data })
  }
}

function driveFrom(
  { content, ...drive }: BenchFile['drives'][number],
  id: string,
  ids: Readonly<Record<'computers' | 'accessories', ReadonlyMap<string, string>>>,
  taken: ReadonlySet<string | null>,
): Drive {
  const place: Place =
    drive.place.kind === 'slot'
      ? { ...drive.place, computerId: ids.computers.get(drive.place.computerId)! }
      : drive.place.kind === 'bay'
        ? { ...drive.place, accessoryId: ids.accessories.get(drive.place.accessoryId)! }
        : drive.place
  const name = content === 'image' && drive.image ? path.basename(drive.image) : undefined
  // An image stands for one drive at most; on a second bench the drive is only described.
  const image = name && !taken.has(name) && existsSync(path.join(imagesFolder(), name)) ? name : null
  return {
    ...drive,
    id,
    place,
    file: content === 'blank' ? `${id}.img` : null,
    image,
  }
}

async function addBench(name: string): Promise<string> {
  await refuseName(name, undefined)
  const id = await freeId(name, 'bench', async (taken) => (await BenchRow.findByPk(taken)) !== null)
  const last = (await BenchRow.max('position')) as number | null
  await BenchRow.create({ id, name, position: (last ?? -1) + 1, active: false })
  return id
}

async function refuseName(name: string, besides: string | undefined): Promise<void> {
  await database()
  const same = (await BenchRow.findAll()).find((b) => b.name.toLowerCase() === name.toLowerCase() && b.id !== besides)
  if (same) throw new Refusal(`There is a bench of the name ${same.name} already.`)
}

async function freeName(name: string): Promise<string> {
  await database()
  const names = new Set((await BenchRow.findAll()).map((b) => b.name.toLowerCase()))
  let free = name
  for (let n = 2; names.has(free.toLowerCase()); n++) free = `${name} (${n})`
  return free
}
