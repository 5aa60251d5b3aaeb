import { shortGuid } from '../../bytes/guid'
import { CoreError } from '../../errors'
import { FALLBACK_PATH, KNOWN_SYSTEMS } from '../../survey/known-systems'
import { bootPlace } from '../places'
import type { RepairKind, RepairPlan, RepairSubject } from '../port'

/** Firmware names the loader's partition by its GUID; the entry may be gone, or name another drive's. A BIOS has slots. */
export const bootEntry: RepairKind = {
  name: 'boot-entry',
  title: 'Have the firmware start this drive first',
  async plan(subject) {
    const { firmware, seat } = subject
    if (subject.mode !== 'uefi') return slotFirst(subject)
    if (!firmware)
      throw new CoreError('Boot entries are kept in the computer, not on the drive, and no computer is at hand here.')
    const { partition, volume } = await bootPlace(subject)
    const paths = [...KNOWN_SYSTEMS.map((s) => s.bootLoaderPath), FALLBACK_PATH]
    const there: string[] = []
    for (const path of paths) if ((await volume.stat(path))?.kind === 'file') there.push(path.replaceAll('/', '\\'))
    if (there.length === 0)
      throw new CoreError(
        `The EFI system partition, partition ${partition.number}, holds no loader that is known here.`,
      )
    const [path] = there
    const holds = (e: (typeof firmware.bootEntries)[number]) =>
      e.partitionGuid === partition.guid && there.some((p) => p.toUpperCase() === e.path.toUpperCase())
    const first = firmware.bootEntries.find((e) => e.id === firmware.bootOrder[0])
    if (first && holds(first)) return { changes: [], patches: [] }
    const sound = firmware.bootEntries.find(holds)
    const alike = firmware.bootEntries.filter((e) => e.path.toUpperCase() === path.toUpperCase())
    // One that leads to another drive which is here goes on doing so.
    const stale = alike.find((e) => !seat?.beside.includes(e.partitionGuid))
    const id = sound?.id ?? stale?.id ?? freeId(firmware.bootEntries.map((e) => e.id))
    const own = { id, partitionGuid: partition.guid, path }
    const told = seat && alike.length > 0 && !stale ? `${alike[0].name}, ${seat.name}` : undefined
    const entry = sound ?? { name: (told ?? stale?.name ?? 'System').slice(0, MOST_NAME), ...own }
    const others = firmware.bootEntries.filter((e) => e.id !== id)
    // What the order names and is not there is left out with it.
    const order = firmware.bootOrder.filter(
      (o, i, all) => o !== id && others.some((e) => e.id === o) && all.indexOf(o) === i,
    )
    return {
      changes: [
        sound
          ? `Entry ${id}, “${entry.name}”, comes first in the firmware’s order.`
          : `Entry ${id}, “${entry.name}”, names ${path} on partition ${shortGuid(partition.guid)} of this drive and comes first.`,
      ],
      patches: [],
      firmware: { ...firmware, bootEntries: [entry, ...others], bootOrder: [id, ...order] },
    }
  },
}

/** Characters of an entry's name that a computer here keeps. */
const MOST_NAME = 80

/** A BIOS keeps no entries, and starts the drive in the first of its slots that it finds anything in. */
function slotFirst({ firmware, seat }: RepairSubject): Omit<RepairPlan, 'name' | 'title'> {
  if (!firmware || !seat) throw new CoreError('A BIOS keeps no boot entries, and no computer is at hand here.')
  const { slot, name } = seat
  if (firmware.driveOrder[0] === slot) return { changes: [], patches: [] }
  return {
    changes: [`The ${name} in ${slot} comes first in the firmware’s order of drives.`],
    patches: [],
    firmware: { ...firmware, driveOrder: [slot, ...firmware.driveOrder.filter((s) => s !== slot)] },
  }
}

/** Four hexadecimal digits that no entry has (UEFI 2.10, section 3.3). */
function freeId(taken: readonly string[]): string {
  for (let i = 0; ; i++) {
    const id = i.toString(16).toUpperCase().padStart(4, '0')
    if (!taken.includes(id)) return id
  }
}
