import { type BenchState, berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { knownSoon } from '../world/known'
import { reservedDrives } from './reserved-drives'

/** A drive that something new could be written to. */
export interface FreeTarget {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly place: string
}

/** Empty drives outside of computers that nobody has, but for one. */
export async function freeTargets(bench: BenchState, benchId: string, besides?: string): Promise<FreeTarget[]> {
  const reserved = await reservedDrives(bench, benchId, undefined)
  const free = bench.drives.filter((d) => d.id !== besides && d.place.kind !== 'slot' && !reserved.has(d.id))
  const known = await knownSoon(free)
  return free.flatMap((d, i) =>
    known[i].isEmpty ? [{ id: d.id, name: driveName(d), serial: d.serial, place: berthOf(d, bench).name }] : [],
  )
}
