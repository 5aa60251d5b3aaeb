import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { CoreError } from '../errors'
import { type FileSystem, openForReading } from '../filesystem'
import { readScheme } from '../scheme'

/** The drive has no partition of that number. */
export class NoPartition extends CoreError {
  override readonly name = 'NoPartition'
}

/**
 * The file system on a partition; 0 is one without a table. Rejects with NoPartition, with BadStructure when its
 * records are damaged, and with CoreError where nothing known is on it.
 */
export async function openPartition(device: BlockDevice, number: number): Promise<FileSystem> {
  const { start, size } = await placeOfPartition(device, number)
  const fileSystem = await openForReading(new SliceDevice(device, start, size))
  if (!fileSystem) throw new CoreError(`Nothing on partition ${number} is a file system that is known here.`)
  return fileSystem
}

/** Where a partition lies, in bytes; 0 is all of a drive without a table. Rejects with NoPartition, and CoreError outside. */
export async function placeOfPartition(device: BlockDevice, number: number): Promise<{ start: number; size: number }> {
  const reading = await readScheme(device)
  const entry = reading?.partitions.find((p) => p.number === number)
  if (!entry && (reading || number !== 0)) {
    const numbers = reading ? reading.partitions.map((p) => p.number).join(', ') || 'none' : '0, the whole drive'
    throw new NoPartition(`There is no partition ${number}; there are: ${numbers}.`)
  }
  const sector = device.logicalSectorSize
  const start = entry ? entry.firstLba * sector : 0
  const size = entry ? (entry.lastLba - entry.firstLba + 1) * sector : device.size
  if (size <= 0 || start >= device.size) throw new CoreError(`Partition ${number} lies outside the drive.`)
  return { start, size: Math.min(size, device.size - start) }
}
