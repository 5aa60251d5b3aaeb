import type { BlockDevice } from '@/core/block/device'
import { CorruptingDevice, FaultyDevice, type LostRun } from '@/core/block/faulty'

/** A drive with the faults that its description gives it: where it does not read, and where it stores something else. */
export function withFaults(
  device: BlockDevice,
  { unreadable, misstores = [] }: { readonly unreadable: readonly LostRun[]; readonly misstores?: readonly LostRun[] },
): BlockDevice {
  const reading = unreadable.length > 0 ? new FaultyDevice(device, unreadable) : device
  return misstores.length > 0 ? new CorruptingDevice(reading, misstores) : reading
}
