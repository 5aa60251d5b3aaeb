import { CoreError, orUndefined } from '../errors'
import { readScheme } from '../scheme'
import { TYPE_GUIDS } from '../scheme/types'
import { FALLBACK_PATH } from '../survey/known-systems'
import { type AttachedDrive, inOrder } from './start'
import type { Firmware } from './types'

/** One line of a computer's boot menu. */
export interface BootChoice {
  /** `entry:0003`, or `slot:SATA 0`. */
  readonly id: string
  readonly title: string
  /** What it stands for, or why nothing would come of it. */
  readonly detail: string
  /** The firmware finds something there to begin with. */
  readonly here: boolean
}

/** What the boot menu of a computer offers with these drives in its slots, in the firmware's order. Nothing is written. */
export async function bootMenu(firmware: Firmware, drives: readonly AttachedDrive[]): Promise<BootChoice[]> {
  const readings = await Promise.all(
    inOrder(firmware, drives).map(async (drive) => ({ drive, scheme: await schemeOf(drive) })),
  )
  const slots = readings.map(({ drive, scheme }): BootChoice => {
    const table = scheme?.scheme
    const wanted = firmware.mode === 'uefi' ? 'gpt' : 'mbr'
    const what =
      table === undefined
        ? 'no partition table'
        : table === 'damaged'
          ? 'a damaged partition table'
          : table === wanted
            ? firmware.mode === 'uefi'
              ? FALLBACK_PATH.replaceAll('/', '\\')
              : 'its first sector'
            : `its table is ${table === 'gpt' ? 'a GPT' : 'an MBR'}`
    return {
      id: `slot:${drive.slot}`,
      title: drive.name,
      detail: `${drive.slot}, ${what}`,
      here: table === wanted,
    }
  })
  if (firmware.mode === 'bios') return slots
  const known = firmware.bootOrder.flatMap((id) => firmware.bootEntries.filter((e) => e.id === id))
  const entries = [...new Set([...known, ...firmware.bootEntries])].map((entry): BootChoice => {
    const at = readings.find(
      ({ scheme }) =>
        scheme?.scheme === 'gpt' && scheme.gpt.table.partitions.some((p) => p.guid === entry.partitionGuid),
    )
    const esp =
      at?.scheme?.scheme === 'gpt' &&
      at.scheme.gpt.table.partitions.find((p) => p.guid === entry.partitionGuid)?.typeGuid === TYPE_GUIDS.efiSystem
    const where = at ? `${at.drive.name}, ${at.drive.slot}` : 'its partition is not here'
    return {
      id: `entry:${entry.id}`,
      title: entry.name,
      detail: `entry ${entry.id}, ${entry.path}, ${where}${at && !esp ? ', which is no EFI system partition' : ''}`,
      here: Boolean(esp),
    }
  })
  return [...entries, ...slots]
}

/** The firmware as it starts when a line of the menu was chosen for once. Throws CoreError for one that there is not. */
export function chosenOnce(firmware: Firmware, choice: string): Firmware {
  const [kind, id] = [choice.slice(0, choice.indexOf(':')), choice.slice(choice.indexOf(':') + 1)]
  if (kind === 'slot') return { ...firmware, bootOrder: [], driveOrder: [id] }
  if (kind === 'entry' && firmware.bootEntries.some((e) => e.id === id)) return { ...firmware, bootOrder: [id] }
  throw new CoreError('The boot menu has no such line any more.')
}

function schemeOf({ device }: AttachedDrive) {
  return readScheme(device).catch(orUndefined)
}
