import type { BlockDevice } from '../block/device'
import type { Firmware } from '../boot/types'
import { sameBytes } from '../bytes/same'
import { CoreError } from '../errors'
import { readScheme } from '../scheme'
import { activePartition } from './kinds/active-partition'
import { backupTable } from './kinds/backup-table'
import { driveLetters } from './kinds/drive-letters'
import { hiddenSectors } from './kinds/hidden-sectors'
import { pointStore } from './kinds/point-store'
import { standardEntry } from './kinds/standard-entry'
import { startDriver } from './kinds/start-driver'
import type { RepairKind, RepairPlan } from './port'

/** Every repair that is known. */
export const REPAIRS: readonly RepairKind[] = [
  pointStore,
  standardEntry,
  driveLetters,
  startDriver,
  activePartition,
  hiddenSectors,
  backupTable,
]

export interface RepairQuestion {
  readonly device: BlockDevice
  readonly mode: Firmware['mode']
  readonly drivers?: readonly string[]
  readonly time: bigint
}

/** What the repair of that name would change on a drive; nothing is written. Rejects with CoreError. */
export async function planRepair(name: string, { device, mode, drivers, time }: RepairQuestion): Promise<RepairPlan> {
  const kind = REPAIRS.find((r) => r.name === name)
  if (!kind) throw new CoreError(`There is no repair "${name}". There are: ${REPAIRS.map((r) => r.name).join(', ')}.`)
  const reading = await readScheme(device)
  if (!reading || reading.scheme === 'damaged')
    throw new CoreError('The drive has no partition table that could be relied on.')
  const candidate = { drive: { driveId: '', name: 'this drive', slot: '', device }, reading }
  const { title } = kind
  const plan = await kind.plan({ candidate, device, mode, drivers, time })
  return { name, title, ...plan, patches: plan.patches.filter((p) => !sameBytes(p.before, p.after)) }
}
