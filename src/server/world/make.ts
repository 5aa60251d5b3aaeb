import { existsSync } from 'node:fs'
import { mkdir, readdir, rm, writeFile } from 'node:fs/promises'
import path from 'node:path'
import { DISK_MAKERS } from '@/bench/scenario/disks'
import { makeScenarioImages } from '@/bench/scenario/images'
import { SCENARIO_MOVES } from '@/bench/scenario/moves'
import {
  HONEY_HOUSE,
  HONEY_HOUSE_BENCH,
  HONEY_HOUSE_PORT,
  SCENARIO_BENCH,
  SCENARIO_START,
} from '@/bench/scenario/things'
import { SparseFileDevice } from '@/bench/sparse-file'
import { type Drive, hasBytes } from '@/core/things/drive'
import { writeWhole } from '@/host/whole-file'
import { keyOfCode, newCode } from '@/nbd/key'
import { database } from '../database'
import { readable } from '../database/readable'
import { AccessoryRow, BenchRow, ClockRow, ComputerRow, DriveRow, MoveRow } from '../database/models'
import { inTransaction } from '../database/transaction'
import { DataFolderUnusable } from '../ground/data-folder'
import { keepLentKey } from '../ground/lent-keys'
import { dataFolder, drivesFolder, imagesFolder } from '../ground/paths'

/** The demo's bench. */
export const DEMO_BENCH = { id: 'molo-sette', name: 'Molo Sette' }

const NO_RESULTS = {
  intake: null,
  survey: null,
  route: null,
  fit: null,
  ready: null,
  swap: null,
  proof: null,
  handover: null,
  standing: null,
  surveyNote: null,
  fitNote: null,
  proofNote: null,
}

/** Adds a move that has come to no station yet, behind those that are there. */
export async function addMove(benchId: string, id: string, brief: MoveRow['brief']): Promise<void> {
  const last = (await MoveRow.max('position')) as number | null
  await MoveRow.create({ id, benchId, position: (last ?? -1) + 1, brief, ...NO_RESULTS })
}

/** The two benches of the demo, each in a data folder of its own. */
const DEMOS = {
  shop: { ...DEMO_BENCH, things: SCENARIO_BENCH, moves: SCENARIO_MOVES },
  'honey-house': { ...HONEY_HOUSE, things: HONEY_HOUSE_BENCH, moves: {} },
}

/** Makes a demo bench when there is none: things, moves and the drives' bytes. True when it was made. */
export async function makeBench(which: keyof typeof DEMOS = 'shop'): Promise<boolean> {
  const { id: benchId, name, things, moves } = DEMOS[which]
  await database()
  if ((await BenchRow.count()) > 0) {
    await giveBytes()
    return false
  }
  await refuseLostDatabase()
  await writeFile(making(), '')
  for (const drive of things.drives) await makeBytes(drive)
  const folder = imagesFolder()
  await mkdir(folder, { recursive: true })
  if (which === 'shop') {
    await makeScenarioImages(folder)
    await makeDemoCode()
  }
  // All at once and after the files, so that a bench that was cut off while it was made is made again.
  await inTransaction(async () => {
    for (const data of things.computers) await ComputerRow.upsert({ id: data.id, benchId, data })
    for (const data of things.accessories) await AccessoryRow.upsert({ id: data.id, benchId, data })
    for (const data of things.drives) await DriveRow.upsert({ id: data.id, benchId, data })
    await ClockRow.upsert({ id: 1, at: SCENARIO_START, pace: '30' })
    for (const [id, brief] of Object.entries(moves)) await addMove(benchId, id, brief)
    await BenchRow.create({ id: benchId, name, position: 0, active: true })
  })
  await rm(making(), { force: true })
  return true
}

/** The code of what the demo's other bench lends; the key that it makes is known to the shop from the start. */
async function makeDemoCode(): Promise<void> {
  const [drive] = HONEY_HOUSE_BENCH.drives
  const code = newCode()
  await keepLentKey(drive.id, keyOfCode(code))
  const lending = { subject: { kind: 'drives', id: drive.id }, address: '127.0.0.1', port: HONEY_HOUSE_PORT, code }
  await writeWhole(path.join(dataFolder(), HONEY_HOUSE.id, 'lends.json'), JSON.stringify(lending), 0o600)
}

/** There while the demo bench is being made. */
const making = () => path.join(dataFolder(), 'making-demo')

/** Rejects with DataFolderUnusable where there are drives and the database knows no bench: nothing is made over them. */
export async function refuseLostDatabase(): Promise<void> {
  await database()
  if ((await BenchRow.count()) > 0 || existsSync(/* turbopackIgnore: true */ making())) return
  const files = await readdir(drivesFolder()).catch(() => [])
  if (files.length === 0) return
  throw new DataFolderUnusable(
    `There are ${files.length} files of drives in ${drivesFolder()}, and the database beside them knows no bench. Put the database back, or move the drives away; nothing was made over them.`,
  )
}

/** Writes the file of a drive anew: what the scenario has on it, or nothing. */
export async function makeBytes(drive: Drive): Promise<void> {
  const { id, file, sizeBytes, logicalSectorSize, physicalSectorSize } = drive
  if (!file) return
  await mkdir(drivesFolder(), { recursive: true })
  const place = path.join(drivesFolder(), file)
  await rm(place, { force: true })
  const device = await SparseFileDevice.create(place, sizeBytes, { logicalSectorSize, physicalSectorSize })
  await DISK_MAKERS[id]?.(device)
  await device.close()
}

/** Takes away the file of a drive, with what is kept beside it. */
export async function removeBytes(file: string): Promise<void> {
  await rm(path.join(drivesFolder(), file), { force: true })
  await rm(path.join(drivesFolder(), `${file}.map`), { force: true })
}

/** A bench from when some drives were only described gets their bytes; where they are is left as it is. */
async function giveBytes(): Promise<void> {
  const rows = await DriveRow.findAll({ where: { benchId: DEMO_BENCH.id } })
  for (const drive of readable(rows, (row) => row.data).found) {
    const made = SCENARIO_BENCH.drives.find((d) => d.id === drive.id)
    if (hasBytes(drive) || !made) continue
    await makeBytes(made)
    const data: Drive = { ...drive, file: made.file, health: made.health, unreadable: made.unreadable }
    await DriveRow.update({ data }, { where: { id: drive.id } })
  }
}
