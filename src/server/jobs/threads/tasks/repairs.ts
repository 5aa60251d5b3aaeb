import type { BlockDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import { changesNothing, planRepair } from '@/core/repair'
import { applyRepair, type RepairRecord, settleRepair, undoRepair } from '@/core/repair/apply'
import type { RepairPlan } from '@/core/repair/port'
import { withDriversOf } from '@/host/driver-stick'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { type DriveBytes, openDrive } from '@/outside/open-drive'
import type { RepairsOrder } from './drive-readings'

export interface RepairOrder extends Omit<RepairsOrder, 'names'> {
  readonly name: string
  /** The file of what takes it back. */
  readonly journal: string
}

/** What a repair that was made is, but for the bytes. */
export type RepairMade = Omit<RepairPlan, 'patches'>

/** Works out a repair on the bytes as they are now, and makes it. Rejects with CoreError, the drive as it was. */
export function makeRepair({ drive, name, question, stick, journal }: RepairOrder): Promise<RepairMade> {
  return withDriversOf(stick, (driverFolder) =>
    withTarget(drive, async (device) => {
      const plan = await planRepair(name, { ...question, device, ...(driverFolder ? { driverFolder } : {}) })
      if (changesNothing(plan)) throw new CoreError('The drive shows nothing that this would change.')
      await applyRepair(device, plan, repairJournal(journal))
      const { title, changes, firmware, grows, know, files } = plan
      return { name, title, changes, firmware, grows, know, files }
    }),
  )
}

interface JournalOrder {
  readonly journal: string
}

/** What a repair's journal says, but for the bytes. */
export type RepairKept = Omit<RepairRecord, 'patches' | 'kind'>

/** What the journal of a repair says; undefined where there is none. Rejects with CoreError for what is no such journal. */
export async function readRepair({ journal }: JournalOrder): Promise<RepairKept | undefined> {
  const record = await repairIn(journal)
  if (!record) return undefined
  const { name, title, changes, state } = record
  return { name, title, changes, state }
}

/** Takes a repair back, byte for byte. Rejects with CoreError. */
export function undoDriveRepair(order: JournalOrder & { readonly drive: DriveBytes }): Promise<void> {
  return withRecord(order, (device, record) => undoRepair(device, record, repairJournal(order.journal)))
}

/** Ends a repair that was cut off. Rejects with CoreError. */
export function settleDriveRepair(order: JournalOrder & { readonly drive: DriveBytes }): Promise<boolean> {
  return withRecord(order, (device, record) => settleRepair(device, record, repairJournal(order.journal)))
}

async function withRecord<T>(
  { drive, journal }: JournalOrder & { readonly drive: DriveBytes },
  work: (device: BlockDevice, record: RepairRecord) => Promise<T>,
): Promise<T> {
  const record = await repairIn(journal)
  if (!record) throw new CoreError('What would take the repair back is gone.')
  return withTarget(drive, (device) => work(device, record))
}

/** Opens a drive to be changed in its place, and closes it after `work`. Rejects with CoreError. */
export async function withTarget<T>(target: DriveBytes, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  const { device, close } = await openDrive(target, { writable: true, inPlace: true })
  try {
    return await work(device)
  } finally {
    await close()
  }
}
