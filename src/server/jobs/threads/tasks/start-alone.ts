import { randomBytes } from 'node:crypto'
import { readdir } from 'node:fs/promises'
import path from 'node:path'
import { openDrive } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { type FirmwareTold, firmwareTold } from '@/core/boot/told'
import { traceBoot } from '@/core/boot/trace'
import { type Firmware, FirmwareSchema, type Trace } from '@/core/boot/types'
import { CoreError } from '@/core/errors'
import { changesNothing, planRepair, type RepairQuestion } from '@/core/repair'
import { applyRepair, repairStands, type RepairRecord, settleRepair, undoRepair } from '@/core/repair/apply'
import { STORAGE_DRIVERS } from '@/core/survey/known-systems'
import { surveyDrive } from '@/core/survey/survey'
import { RawFile } from '@/host/raw-file'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { sha256 } from '@/host/sha256'
import { type Subject, withSubject } from './subject'

/** A disk whose start is followed with no other drive beside it. */
export interface AloneOrder {
  readonly subject: Subject
  /** As on its plate. */
  readonly name: string
  readonly slot: string
  /** The firmware of the computer that it sits in. */
  readonly firmware?: Firmware
  /** By this kind of firmware; what the disk tells without. */
  readonly mode?: Firmware['mode']
  readonly drivers?: readonly string[]
  /** FILETIME that repaired structures get. */
  readonly time: bigint
  /** Folder and name of its repairs' journals, each with a number behind it. */
  readonly journals: { readonly folder: string; readonly name: string }
}

/** What a repair would do to it, or why it cannot be done. */
export interface AloneRepair {
  readonly name: string
  readonly title: string
  readonly changes: readonly string[]
  readonly why: string | null
}

export interface AloneStart {
  readonly told: FirmwareTold
  readonly mode: Firmware['mode']
  readonly trace: Trace
  readonly offered: readonly AloneRepair[]
  /** Repairs that are on it as they were written, oldest first. */
  readonly made: readonly { readonly title: string; readonly changes: readonly string[] }[]
  /** One was cut off in the middle. */
  readonly cut: boolean
}

/** Follows the start of a computer with this disk alone in it. Nothing is written. */
export async function followAlone(order: AloneOrder): Promise<AloneStart> {
  return withSubject(order.subject, async (device) => {
    const told = firmwareTold(await surveyDrive(device, sha256))
    const { firmware, drivers, name, slot } = { ...order, firmware: firmwareOf(order, told) }
    const drive = { driveId: 'alone', name, slot, device, ...(drivers ? { drivers } : {}) }
    const trace = await traceBoot(firmware, [drive], undefined, sha256)
    const offered: AloneRepair[] = []
    for (const repair of trace.links.find((l) => l.state === 'failed')?.repairs ?? []) {
      // Without a second drive there is no twin to be told apart from.
      if (repair === 'disk-identity') continue
      offered.push(await planned(repair, device, order, firmware))
    }
    const records = await recordsOf(order)
    const made: RepairRecord[] = []
    for (const { record } of records) if (await repairStands(device, record)) made.push(record)
    return {
      told,
      mode: firmware.mode,
      trace,
      offered,
      made: made.map(({ title, changes }) => ({ title, changes })),
      cut: records.some(({ record }) => record.state === 'writing'),
    }
  })
}

async function planned(name: string, device: BlockDevice, order: AloneOrder, firmware: Firmware): Promise<AloneRepair> {
  try {
    const plan = await planRepair(name, questionOf(device, order, firmware))
    if (plan.firmware) return { name, title: plan.title, changes: plan.changes, why: NO_FIRMWARE }
    const why = changesNothing(plan) ? 'The disk shows nothing that this would change.' : null
    return { name, title: plan.title, changes: plan.changes, why }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { name, title: '', changes: [], why: error.message }
  }
}

const NO_FIRMWARE = 'This is kept in the computer, not on the disk. It is repaired in a move, at Proof.'

function firmwareOf({ firmware, mode }: AloneOrder, told: FirmwareTold): Firmware {
  if (firmware && (mode === undefined || mode === firmware.mode)) return firmware
  return FirmwareSchema.parse({
    ...{ mode: mode ?? told.mode, secureBoot: false, bootMenuKey: '', bootEntries: [], bootOrder: [] },
  })
}

function questionOf(device: BlockDevice, { drivers, time }: AloneOrder, { mode }: Firmware): RepairQuestion {
  return { device, mode, time, chance: randomBytes(16), drivers: drivers ?? STORAGE_DRIVERS }
}

export interface AloneRepairOrder extends AloneOrder {
  readonly repair: string
}

/** Makes a repair on the disk, after taking back one that was cut off. Rejects with CoreError, nothing changed. */
export async function repairAlone(order: AloneRepairOrder): Promise<{ title: string }> {
  const told = await withSubject(order.subject, async (device) => firmwareTold(await surveyDrive(device, sha256)))
  const firmware = firmwareOf(order, told)
  return withWritable(order.subject, async (device) => {
    await settleAll(device, order)
    const plan = await planRepair(order.repair, questionOf(device, order, firmware))
    if (plan.firmware) throw new CoreError(NO_FIRMWARE)
    if (changesNothing(plan)) throw new CoreError('The disk shows nothing that this would change. Nothing was written.')
    const numbers = (await recordsOf(order)).map((r) => r.number)
    await applyRepair(device, plan, repairJournal(journalFile(order, Math.max(0, ...numbers) + 1)))
    return { title: plan.title }
  })
}

/** Takes the last repair back that is on the disk, or one that was cut off. Rejects with CoreError. */
export async function undoAlone(order: AloneOrder): Promise<{ title: string }> {
  return withWritable(order.subject, async (device) => {
    const settled = await settleAll(device, order)
    if (settled) return { title: settled }
    for (const { number, record } of (await recordsOf(order)).reverse()) {
      if (!(await repairStands(device, record))) continue
      await undoRepair(device, record, repairJournal(journalFile(order, number)))
      return { title: record.title }
    }
    throw new CoreError('No repair is on it that could be undone.')
  })
}

/** Ends what a power cut left of a repair; the title of the last such. */
async function settleAll(device: BlockDevice, order: AloneOrder): Promise<string | undefined> {
  let settled: string | undefined
  for (const { number, record } of await recordsOf(order)) {
    if (await settleRepair(device, record, repairJournal(journalFile(order, number)))) settled = record.title
  }
  return settled
}

const journalFile = ({ journals: { folder, name } }: AloneOrder, number: number) =>
  path.join(folder, `${name}-${number}.json`)

async function recordsOf(order: AloneOrder): Promise<{ number: number; record: RepairRecord }[]> {
  const { folder, name } = order.journals
  const files = await readdir(folder).catch(() => [])
  const numbers = files
    .filter((file) => file.startsWith(`${name}-`) && /^\d+\.json$/.test(file.slice(name.length + 1)))
    .map((file) => Number.parseInt(file.slice(name.length + 1), 10))
    .sort((a, b) => a - b)
  const records: { number: number; record: RepairRecord }[] = []
  for (const number of numbers) {
    const record = await repairIn(journalFile(order, number))
    if (record) records.push({ number, record })
  }
  return records
}

/** Opens it for writing, hands it to `work` and closes it. An image has to be raw. Rejects with CoreError. */
async function withWritable<T>(subject: Subject, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  if (subject.kind === 'drive') {
    const { device, close } = await openDrive(subject.drive, { writable: true })
    try {
      return await work(device)
    } finally {
      await close()
    }
  }
  const sectorSize = await withSubject(subject, async (image) => image.logicalSectorSize)
  const device = await RawFile.open(subject.file, sectorSize)
  try {
    return await work(device)
  } finally {
    await device.close()
  }
}
