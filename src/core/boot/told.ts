import { LOADER_EXTENSION } from '../survey/known-systems'
import type { DriveSurvey } from '../survey/types'
import type { Firmware } from './types'

/** How the computer starts that a disk came out of, and what on the disk tells it. */
export interface FirmwareTold {
  readonly mode: Firmware['mode']
  /** As the end of "because": `it has an EFI system partition with loaders`. */
  readonly because: string
}

/** Tells from a disk by which kind of firmware it was started. */
export function firmwareTold({ scheme, loaders, mbr, partitions }: DriveSurvey): FirmwareTold {
  const system = partitions.find((p) => p.system)?.system
  if (scheme === 'mbr' && system?.family === 'windows') {
    // Whatever loaders another system has left: this one has none that such firmware could start.
    if (system.bits === 32) return { mode: 'bios', because: 'its system has 32 bits' }
    if (!system.loaderPath.endsWith(LOADER_EXTENSION))
      return { mode: 'bios', because: 'its system has no loader for UEFI' }
  }
  if (loaders.length > 0) return { mode: 'uefi', because: 'it has an EFI system partition with loaders' }
  if (scheme === 'mbr') {
    const active = mbr?.activePartition != null
    if (!active && partitions.some((p) => p.mbr?.type === 0xef))
      return { mode: 'uefi', because: 'its MBR names an EFI system partition and none as active' }
    return { mode: 'bios', because: active ? 'its MBR names an active partition' : 'its partition table is an MBR' }
  }
  if (mbr?.hasBootCode && !partitions.some((p) => p.role === 'boot'))
    return { mode: 'bios', because: 'it has start-up code and no EFI system partition' }
  return { mode: 'uefi', because: scheme === 'gpt' ? 'its partition table is a GPT' : 'nothing on it tells otherwise' }
}
