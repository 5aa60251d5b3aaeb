import { readdir, unlink } from 'node:fs/promises'
import path from 'node:path'
import { journalsFolder } from '../ground/paths'

// Where the journals of the repairs of a move are, which take them back.

/** Ids of all repairs of a move that have a journal, oldest first. */
export async function repairIdsOf(moveId: string): Promise<string[]> {
  const pattern = new RegExp(`^repair-${safeName(moveId)}-(\\d+)\\.json$`)
  const names = await readdir(journalsFolder()).catch(() => [])
  return names.flatMap((name) => pattern.exec(name)?.[1] ?? []).sort((a, b) => Number(a) - Number(b))
}

/** Ids that no repair of the move ever had, so that no journal is written over another. */
export async function nextRepairIds(
  moveId: string,
  made: readonly { readonly id: string }[],
  count: number,
): Promise<string[]> {
  const taken = [...(await repairIdsOf(moveId)), ...made.map((r) => r.id)].map(Number)
  const first = Math.max(0, ...taken) + 1
  return Array.from({ length: count }, (_, i) => String(first + i))
}

/** Throws away what was kept of changes to a target that is written anew from its first sector, and noted nowhere. */
export async function forgetUnnotedRepairs(moveId: string, noted: readonly { readonly id: string }[]): Promise<void> {
  for (const id of await repairIdsOf(moveId)) if (!noted.some((r) => r.id === id)) await unlink(repairFile(moveId, id))
}

export function repairFile(moveId: string, id: string): string {
  return path.join(journalsFolder(), `repair-${safeName(moveId)}-${id}.json`)
}

/** What the firmware of the computer that Imbarco runs on had before a repair. */
export function firmwareFile(moveId: string, id: string): string {
  return path.join(journalsFolder(), `firmware-${safeName(moveId)}-${id}.json`)
}

/** What takes room back that was made on the move's target for a volume. */
export function roomFile(moveId: string): string {
  return path.join(journalsFolder(), `room-${safeName(moveId)}.json`)
}

const safeName = (moveId: string) => moveId.replace(/[^\w-]/g, '_')
