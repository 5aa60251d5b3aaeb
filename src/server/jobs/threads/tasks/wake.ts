import { type DriveBytes, openDrive } from '@/outside/open-drive'
import { wakeSystem } from '@/bench/wake'

/** Has the system of a partition wake, as the computer does that starts it. True where it slept. */
export async function wake({ drive, partition }: { drive: DriveBytes; partition: number }): Promise<boolean> {
  const { device, close } = await openDrive(drive, { writable: true, inPlace: true })
  try {
    return await wakeSystem(device, partition)
  } finally {
    await close()
  }
}
