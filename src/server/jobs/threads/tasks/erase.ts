import { randomBytes } from 'node:crypto'
import { type DriveBytes, openDrive } from '@/outside/open-drive'
import { type Erased, eraseDevice, type EraseHow } from '@/core/block/erase'
import { type DataVolumeWish, makeDataVolume } from '@/core/reuse/data-volume'

export interface EraseOrder {
  readonly drive: DriveBytes
  readonly how: EraseHow
  /** The volume that it gets afterwards, if any. */
  readonly volume?: Omit<DataVolumeWish, 'chance'>
}

/** Erases a drive and reads back that it is; then makes the volume that was asked for. */
export async function eraseDrive({ drive, how, volume }: EraseOrder): Promise<Erased> {
  const { device, close } = await openDrive(drive, { writable: true })
  try {
    const erased = await eraseDevice(device, how)
    if (volume) await makeDataVolume(device, { ...volume, chance: randomBytes(48) })
    return erased
  } finally {
    await close()
  }
}
