import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { type Erased, eraseDevice, type EraseHow } from '@/core/block/erase'

export interface EraseOrder {
  readonly drive: DriveBytes
  readonly how: EraseHow
}

/** Erases a drive and reads back that it is. */
export async function eraseDrive({ drive, how }: EraseOrder): Promise<Erased> {
  const { device, close } = await openDrive(drive, { writable: true })
  try {
    return await eraseDevice(device, how)
  } finally {
    await close()
  }
}
