import { type BenchState, berthOf } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { knownSoon } from '../world/known'
import { reservedDrives } from './reserved-drives'

/** A drive that something new could be written to. */
export interface FreeTarget {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly place: string
}

/** One that is plugged in here is offered where nothing uses it, wherever that is. */
const isOffered = ({ place, kernel }: Drive) =>
  kernel ? kernel.path !== null && kernel.uses.length === 0 && !kernel.hasTwin : place.kind !== 'slot'

/** Empty drives that nobody has, but for one: outside of computers, or in the one that Imbarco runs on. */
export async function freeTargets(bench: BenchState, benchId: string, besides?: string): Promise<FreeTarget[]> {
  const reserved = await reservedDrives(bench, benchId, undefined)
  const free = bench.drives.filter((d) => d.id !== besides && isOffered(d) && !reserved.has(d.id))
  const known = await knownSoon(free)
  return free.flatMap((d, i) =>
    known[i].isEmpty ? [{ id: d.id, name: driveName(d), serial: d.serial, place: berthOf(d, bench).name }] : [],
  )
}
