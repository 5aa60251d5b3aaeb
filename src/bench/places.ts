import { formatCapacity } from '@/core/bytes/size'
import type { LinkId } from '@/core/route/types'
import type { BenchState, Drive, Place } from './types'

/** A place in words, with the link it gives, when it gives one. */
export interface Berth {
  readonly name: string
  readonly link?: LinkId
  readonly inComputer: boolean
}

/** Model and decimal capacity: how a drive is called everywhere. */
export function driveName(drive: Drive): string {
  return `${drive.model} ${formatCapacity(drive.sizeBytes)}`
}

/** Where a drive is, in words. */
export function berthOf(place: Place, bench: BenchState): Berth {
  if (place.kind === 'slot') {
    const computer = bench.computers.find((c) => c.id === place.computerId)
    const slot = computer?.slots.find((s) => s.id === place.slot)
    return { name: `${computer?.name ?? 'a computer'}, ${place.slot}`, link: slot?.link, inComputer: true }
  }
  if (place.kind === 'bay') {
    const accessory = bench.accessories.find((a) => a.id === place.accessoryId)
    const bay = accessory?.bays.find((b) => b.id === place.bay)
    const name =
      accessory && accessory.bays.length > 1 ? `${accessory.name}, ${place.bay}` : (accessory?.name ?? 'a dock')
    return { name, link: bay?.link, inComputer: false }
  }
  return { name: place.kind === 'shelf' ? 'on the shelf' : 'on the table', inComputer: false }
}

/** True when both name the same place that only one drive can take. */
export function samePlace(a: Place, b: Place): boolean {
  if (a.kind === 'slot' && b.kind === 'slot') return a.computerId === b.computerId && a.slot === b.slot
  if (a.kind === 'bay' && b.kind === 'bay') return a.accessoryId === b.accessoryId && a.bay === b.bay
  return false
}

/** Why a drive cannot go to a place, or undefined when it can. */
export function whyNotThere(drive: Drive, place: Place, bench: BenchState): string | undefined {
  if (place.kind === 'shelf' || place.kind === 'table') return undefined
  const berths =
    place.kind === 'slot'
      ? bench.computers.find((c) => c.id === place.computerId)?.slots
      : bench.accessories.find((a) => a.id === place.accessoryId)?.bays
  const berth = berths?.find((b) => b.id === (place.kind === 'slot' ? place.slot : place.bay))
  if (!berth) return 'There is no such place on the bench.'
  if (berth.interfaceName !== drive.interfaceName) {
    return `It takes ${berth.interfaceName}, and the ${driveName(drive)} is ${drive.interfaceName}.`
  }
  const other = bench.drives.find((d) => d.id !== drive.id && samePlace(d.place, place))
  if (other) return `The ${driveName(other)} is there already.`
  if (place.kind === 'slot') {
    const computer = bench.computers.find((c) => c.id === place.computerId)!
    if (computer.mains) return `The ${computer.name} has mains power: pull the cable before a drive is put in.`
  }
  return undefined
}
