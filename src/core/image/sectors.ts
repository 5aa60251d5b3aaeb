import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { recognise } from '../filesystem'
import { guessSectorSize } from '../scheme'

/** A device with sectors of the size asked for, or of the one that the tables on it speak of. */
export async function withSectors<D extends BlockDevice>(
  make: (sectorSize: 512 | 4096) => D,
  asked: 512 | 4096 | undefined,
): Promise<D> {
  return make(asked ?? (await guessSectorSize(make, holdsVolume)))
}

async function holdsVolume(device: BlockDevice, offset: number): Promise<boolean> {
  if (offset >= device.size) return false
  return (await recognise(new SliceDevice(device, offset, device.size - offset)).catch(() => undefined)) !== undefined
}
