import { readFile, rm } from 'node:fs/promises'
import type { Firmware } from '@/core/boot/types'
import type { BlockDevice } from '@/core/block/device'
import { readScheme } from '@/core/scheme'
import { thisComputer } from '@/host/devices/computer'
import { applyFirmware, FirmwareChangeSchema, planFirmware, undoFirmware } from '@/host/devices/firmware'
import { writeWhole } from '@/host/whole-file'
import { Refusal } from '../../ground/refusals'

// The firmware of the computer that Imbarco runs on, changed as a repair that can be taken back.

/**
 * Has the firmware begin with the first of the entries that are wanted, which names a partition of this drive; what else it
 * starts stays in its order. Rejects with CoreError or Refusal, its variables as they were.
 */
export async function writeRealFirmware(device: BlockDevice, wanted: Firmware, file: string): Promise<void> {
  const [entry] = wanted.bootEntries
  const reading = await readScheme(device)
  const partition = reading?.partitions.find((p) => p.guid === entry.partitionGuid)
  if (!partition)
    throw new Refusal('repair-not-possible', { why: 'The partition of the entry is not on the new drive.' })
  const { number, guid, firstLba, lastLba } = partition
  const now = await thisComputer()
  if (now.firmware !== 'uefi')
    throw new Refusal('repair-not-possible', {
      why: 'This computer does not start by UEFI, so its firmware keeps no entries.',
    })
  const place = { number, guid, startLba: BigInt(firstLba), sectors: BigInt(lastLba - firstLba + 1) }
  const option = { id: entry.id, name: entry.name, isActive: true, path: entry.path, partition: place }
  // What could not be read of it keeps its turn, too.
  const order = [entry.id, ...now.bootOrder.filter((id) => id !== entry.id)]
  const change = await planFirmware(option, order)
  await writeWhole(file, JSON.stringify(change))
  await applyFirmware(change)
}

/** Gives the firmware back what it had before a repair; nothing where that did not touch it. */
export async function takeFirmwareBack(file: string): Promise<void> {
  const text = await readFile(file, 'utf8').catch(() => undefined)
  if (text === undefined) return
  await undoFirmware(FirmwareChangeSchema.parse(JSON.parse(text)))
  await rm(file, { force: true })
}
