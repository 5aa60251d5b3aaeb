import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { openFileSystem } from '@/core/filesystem'
import { readScheme } from '@/core/scheme'
import { IDLE_PLACES, sleepsOn } from '@/core/survey/idle-files'

/** What a system leaves of the head of its hibernation file once it is awake. */
const AWAKE = new TextEncoder().encode('WAKE')

/**
 * A system that was started takes its memory back out of its hibernation file, as the computer does that runs it. True
 * where it slept; nothing is written to a volume on which none does.
 */
export async function wakeSystem(drive: BlockDevice, partition: number): Promise<boolean> {
  const reading = await readScheme(drive)
  const entry =
    reading && reading.scheme !== 'damaged' ? reading.partitions.find((p) => p.number === partition) : undefined
  if (!entry) return false
  const sector = drive.logicalSectorSize
  const slice = new SliceDevice(drive, entry.firstLba * sector, (entry.lastLba - entry.firstLba + 1) * sector)
  const volume = await openFileSystem(slice)
  if (!volume?.fileExtents || !(await sleepsOn(volume))) return false
  for (const { path, kind } of IDLE_PLACES) {
    if (kind !== 'hibernation' || (await volume.stat(path))?.kind !== 'file') continue
    const [first] = await volume.fileExtents(path)
    if (!first) continue
    const head = new Uint8Array(sector)
    await slice.read(first.offset, head)
    head.set(AWAKE)
    await slice.write(first.offset, head)
  }
  await drive.flush()
  return true
}
