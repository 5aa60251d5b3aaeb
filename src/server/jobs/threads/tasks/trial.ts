import { type DriveBytes, type OpenDrive, openToLook } from '@/outside/open-drive'
import type { AttachedDrive } from '@/core/boot/start'
import { traceBoot } from '@/core/boot/trace'
import { sha256 } from '@/host/sha256'

export interface StartOrder {
  readonly firmware: Parameters<typeof traceBoot>[0]
  /** What is in the computer's slots, in their order. */
  readonly attached: readonly (Omit<AttachedDrive, 'device'> & { readonly drive: DriveBytes })[]
  readonly reference: Parameters<typeof traceBoot>[2]
  /** The system that is chosen, by its partition; the one that starts by itself without. */
  readonly system?: number
}

/** Follows the start of a computer on the bytes of what is in its slots. Nothing is written. */
export async function followStart({ firmware, attached, reference, system }: StartOrder) {
  const opened: OpenDrive[] = []
  try {
    const drives: AttachedDrive[] = []
    for (const { drive, ...place } of attached) {
      const bytes = await openToLook(drive)
      opened.push(bytes)
      drives.push({ ...place, device: bytes.device })
    }
    return await traceBoot(firmware, drives, reference, sha256, system)
  } finally {
    for (const drive of opened) await drive.close()
  }
}
