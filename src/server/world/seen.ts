import { setTimeout as pause } from 'node:timers/promises'
import { isDeepStrictEqual } from 'node:util'
import type { Accessory } from '@/core/things/accessory'
import { berthOf, placeKey } from '@/core/things/bench'
import { type Computer, MOST_NETWORK_CARDS } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { thisComputer } from '@/host/devices/computer'
import { listDrives, usesOf } from '@/host/devices/describe'
import { healthOf } from '@/host/devices/health'
import { isPort, knownAs, type Seen, type SeenDrive, THIS_ID, thingsOf } from '@/host/devices/things'
import { provider } from '@/outside/provider'
import { database } from '../database'
import { AccessoryRow, BenchRow, ComputerRow, DriveRow } from '../database/models'
import { readable } from '../database/readable'
import { inTransaction } from '../database/transaction'
import { DataFolderUnusable } from '../ground/data-folder'
import { mayHaveChanged } from '../ground/drive-files'
import { publish } from '../ground/events'
import { freeId } from '../ground/ids'
import { log } from '../ground/log'
import { outsideQueues } from '../ground/queue'
import { singleton } from '../ground/singleton'
import { runTask } from '../jobs/threads'
import { benchState, driveSubject, tellDetached } from '.'

// The drives of this computer, kept on its bench as they come and go.

/** So often it is looked what is plugged in. */
const LOOK_EVERY_MS = 500
/** So often drives are asked for their health. */
const HEALTH_EVERY_MS = 60_000

const BENCH = { id: THIS_ID, name: 'This computer' }

/** Loop devices are only drives where they were asked for. */
const withLoops = () => process.env.IMBARCO_DEVICES === 'loops'

/** Called for a drive that is seen somewhere else than before, with where that is. */
type MovedListener = (drive: Drive) => Promise<void>
const listeners = () => singleton('seen-moved', () => new Set<MovedListener>())
export const onSeenMoved = (listener: MovedListener) => void listeners().add(listener)

/** Rejects with DataFolderUnusable where a data folder is of another world than this server. */
export async function refuseOtherWorld(): Promise<void> {
  await database()
  // One that a person has described may be called so, too.
  const isOfThis = (await ComputerRow.findByPk(THIS_ID))?.data.isThis === true
  const isSeen = !provider().isTold
  if (isSeen === isOfThis || (isSeen && (await BenchRow.count()) === 0)) return
  throw new DataFolderUnusable(
    isSeen
      ? 'This data folder has a bench with simulated drives. Real drives are kept apart from those: name another folder in IMBARCO_DATA.'
      : 'This data folder is of the drives of this computer. Start it with --devices, or name another folder in IMBARCO_DATA.',
  )
}

/** Begins to keep the bench as what is plugged in. Resolves when it was looked once. */
export async function watchDrives(): Promise<void> {
  if (provider().isTold) return
  await database()
  if ((await BenchRow.count()) === 0) await BenchRow.create({ ...BENCH, position: 0, active: true, shop: null })
  await look()
  void outsideQueues(goOn).catch((error: unknown) => log.error(error))
  void outsideQueues(watchHealth).catch((error: unknown) => log.error(error))
}

async function goOn(): Promise<void> {
  let last = ''
  for (;;) {
    await pause(LOOK_EVERY_MS)
    try {
      await look()
      last = ''
    } catch (error) {
      // What goes wrong twice a second is said once.
      if (String(error) !== last) log.error(error)
      last = String(error)
    }
  }
}

const notMeasured = (drive: Drive) => (error: unknown) =>
  log.info({ drive: drive.id, why: error instanceof Error ? error.message : String(error) }, 'a drive was not measured')

/** Asks every drive that is plugged in for its health, one after the other, again and again. */
async function watchHealth(): Promise<void> {
  for (;;) {
    for (const drive of readable(await DriveRow.findAll(), (row) => row.data).found) await askHealth(drive)
    await pause(HEALTH_EVERY_MS)
  }
}

async function askHealth({ id, kernel }: Pick<Drive, 'id' | 'kernel'>): Promise<void> {
  // What stands for a file has none.
  if (!kernel?.path || kernel.key.startsWith('file ')) return
  const health = await healthOf(kernel.path)
  // A disk that sleeps tells nothing now; what it told before stands.
  if (health === undefined) return
  const isNew = await inTransaction(async () => {
    const row = await DriveRow.findByPk(id)
    if (!row || isDeepStrictEqual(row.data.health, health)) return false
    await DriveRow.update({ data: { ...row.data, health } }, { where: { id } })
    return true
  })
  if (isNew) publish({ type: 'changed', moveId: null })
}

const before = () => singleton('seen-before', () => ({ what: undefined as Seen | undefined }))

/** Looks what is plugged in, and has the bench be so. */
async function look(): Promise<void> {
  const found = await listDrives({ loops: withLoops() })
  const used = await Promise.all(found.map(async (drive) => ({ ...drive, uses: await usesOf(drive) })))
  const seen = thingsOf(await thisComputer(), used)
  if (isDeepStrictEqual(before().what, seen)) return
  const { gone, moved, fresh } = await inTransaction(() => keep(seen))
  before().what = seen
  for (const { drive, name } of gone) {
    log.info({ drive: drive.id }, 'a drive was unplugged')
    tellDetached(drive.id, name)
  }
  for (const drive of [...moved, ...gone.map((one) => one.drive)])
    // A move may be busy for a while; the next look does not wait for it.
    for (const listener of listeners())
      void outsideQueues(() => listener(drive)).catch((error: unknown) => log.error(error))
  publish({ type: 'changed', moveId: null })
  for (const drive of [...fresh, ...moved]) void outsideQueues(() => askHealth(drive)).catch(notMeasured(drive))
  for (const drive of fresh) void outsideQueues(() => measure(drive)).catch(notMeasured(drive))
}

interface Kept {
  readonly gone: { readonly drive: Drive; readonly name: string }[]
  readonly moved: Drive[]
  readonly fresh: Drive[]
}

async function keep({ computer, accessories, drives }: Seen): Promise<Kept> {
  const bench = await benchState(BENCH.id)
  await keepComputer(computer)
  const kept: Kept = { gone: [], moved: [], fresh: [] }
  const stored = readable(await DriveRow.findAll(), (row) => row.data).found.filter((d) => d.kernel)
  const matches = knownAs(stored, drives)
  for (const drive of stored) {
    if (drive.kernel!.path === null || [...matches.values()].includes(drive)) continue
    const away: Drive = {
      ...drive,
      kernel: { ...drive.kernel!, path: null, device: null, uses: [], hasTwin: false },
      place: { kind: 'table' },
    }
    await DriveRow.update({ data: away }, { where: { id: drive.id } })
    kept.gone.push({ drive: away, name: `The ${driveName(drive)} (${berthOf(drive, bench).name})` })
  }
  await keepAccessories(accessories)
  for (const one of drives) {
    const known = matches.get(one)
    if (known) await keepKnown(known, one, kept)
    else kept.fresh.push(await add(one))
  }
  return kept
}

async function keepKnown(known: Drive, { seen, place }: SeenDrive, kept: Kept): Promise<void> {
  const data: Drive = { ...known, kernel: { ...seen, key: known.kernel!.key }, place }
  if (isDeepStrictEqual(known, data)) return
  const wasAway = known.kernel!.path === null
  // What was out of sight, or was used by others, may have been written to.
  const { uses, device } = known.kernel!
  if (!isDeepStrictEqual([uses, device], [seen.uses, seen.device])) mayHaveChanged(known.id)
  await DriveRow.update({ data }, { where: { id: known.id } })
  if (wasAway || placeKey(known.place) !== placeKey(place)) kept.moved.push(data)
}

async function add({ seen, place, first }: SeenDrive): Promise<Drive> {
  const id = await freeId(
    `${first.model} ${first.serial}`,
    'drive',
    async (taken) => (await DriveRow.findByPk(taken)) !== null,
  )
  const drive: Drive = { ...first, id, kernel: seen, place }
  await DriveRow.create({ id, benchId: BENCH.id, data: drive })
  return drive
}

/** The computer with what can be seen of it now; what a person said of its case and its name stays. */
async function keepComputer(seen: Computer): Promise<void> {
  const row = await ComputerRow.findByPk(THIS_ID)
  if (!row) {
    await ComputerRow.create({ id: THIS_ID, benchId: BENCH.id, data: seen })
    return
  }
  const { name, chassis, slots: known, homeSlot, batteryPercent, networkCards: cards } = row.data
  // A slot stays when its drive is taken out, so that another one can go in.
  const slots = [...seen.slots, ...known.filter((slot) => !seen.slots.some((s) => s.id === slot.id))].slice(0, 24)
  const data: Computer = {
    ...{ ...seen, name, chassis, slots, batteryPercent },
    // What a person said of a card stays with it, and so does one that only a person told of.
    networkCards: [
      ...seen.networkCards.map((card) => ({ ...card, ...cards.find((c) => c.name === card.name), link: card.link })),
      ...cards.filter((c) => !seen.networkCards.some(({ name: card }) => card === c.name)),
    ].slice(0, MOST_NETWORK_CARDS),
    homeSlot: slots.some((s) => s.id === homeSlot) ? homeSlot : slots[0].id,
  }
  if (!isDeepStrictEqual(row.data, data)) await ComputerRow.update({ data }, { where: { id: THIS_ID } })
}

/** Ports with something in them, and the network; those that are empty by now go. */
async function keepAccessories(seen: readonly Accessory[]): Promise<void> {
  for (const row of await AccessoryRow.findAll({ where: { benchId: BENCH.id } })) {
    if (isPort(row.id) && !seen.some((a) => a.id === row.id)) await AccessoryRow.destroy({ where: { id: row.id } })
  }
  for (const data of seen) await AccessoryRow.upsert({ id: data.id, benchId: BENCH.id, data })
}

/** What a drive does by its own, which estimates begin with. */
async function measure(drive: Drive): Promise<void> {
  const bytesPerSecond = await runTask('measureReading', driveSubject(drive))
  if (bytesPerSecond === null) return
  await inTransaction(async () => {
    const row = await DriveRow.findByPk(drive.id)
    if (!row) return
    const data: Drive = { ...row.data, readBytesPerSecond: bytesPerSecond, writeBytesPerSecond: bytesPerSecond }
    await DriveRow.update({ data }, { where: { id: drive.id } })
  })
  publish({ type: 'changed', moveId: null })
}
