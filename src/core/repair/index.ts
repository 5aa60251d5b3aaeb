import { sameBytes } from '../bytes/same'
import { CoreError } from '../errors'
import { readScheme } from '../scheme'
import { activePartition } from './kinds/active-partition'
import { backupTable } from './kinds/backup-table'
import { bootEntry } from './kinds/boot-entry'
import { bringDriver, bringNetworkDriver } from './kinds/bring-driver'
import { cardAddress } from './kinds/card-address'
import { diskIdentity } from './kinds/disk-identity'
import { driveLetters } from './kinds/drive-letters'
import { fallbackLoader } from './kinds/fallback-loader'
import { hiddenSectors } from './kinds/hidden-sectors'
import { newEsp } from './kinds/new-esp'
import { newStore } from './kinds/new-store'
import { oldDevices } from './kinds/old-devices'
import { oldLetters } from './kinds/old-letters'
import { pointStore } from './kinds/point-store'
import { standardEntry } from './kinds/standard-entry'
import { startCode } from './kinds/start-code'
import { startDriver } from './kinds/start-driver'
import { systemEntry } from './kinds/system-entry'
import { takeUpRoom } from './kinds/take-up-room'
import { volumeSize } from './kinds/volume-size'
import type { RepairKind, RepairPlan, RepairSubject } from './port'

/** Every repair that is known. */
export const REPAIRS: readonly RepairKind[] = [
  pointStore,
  standardEntry,
  newStore,
  newEsp,
  systemEntry,
  driveLetters,
  startDriver,
  bringDriver,
  bringNetworkDriver,
  activePartition,
  hiddenSectors,
  backupTable,
  bootEntry,
  fallbackLoader,
  startCode,
  diskIdentity,
  volumeSize,
  takeUpRoom,
  oldLetters,
  oldDevices,
  cardAddress,
]

export type RepairQuestion = Omit<RepairSubject, 'candidate'>

/** A plan with nothing to do. */
export function changesNothing({ patches, firmware }: RepairPlan): boolean {
  return patches.length === 0 && firmware === undefined
}

/** What the repair of that name would change on a drive; nothing is written. Rejects with CoreError. */
export async function planRepair(name: string, question: RepairQuestion): Promise<RepairPlan> {
  const kind = REPAIRS.find((r) => r.name === name)
  if (!kind) throw new CoreError(`There is no repair "${name}". There are: ${REPAIRS.map((r) => r.name).join(', ')}.`)
  const { device } = question
  const reading = await readScheme(device)
  if (!reading || reading.scheme === 'damaged')
    throw new CoreError('The drive has no partition table that could be relied on.')
  const candidate = { drive: { driveId: '', name: 'this drive', slot: '', device }, reading }
  const { title } = kind
  const plan = await kind.plan({ ...question, candidate })
  return { name, title, ...plan, patches: plan.patches.filter((p) => !sameBytes(p.before, p.after)) }
}
