import { baysOf, bracketCount, type Accessory } from './accessory'
import { linkIn, needsBracket, type Slot, whyNotInto } from './bodies'
import type { Computer } from './computer'
import { type Berth, type Drive, driveName, type Place } from './drive'
import type { LinkId } from './links'

/** Everything on the bench. */
export interface BenchState {
  readonly computers: readonly Computer[]
  readonly accessories: readonly Accessory[]
  readonly drives: readonly Drive[]
}

/** A place in words, with the link it gives, when it gives one. */
export interface BerthWords {
  readonly name: string
  readonly link?: LinkId
  readonly inComputer: boolean
}

/** Every place that a drive can sit in, computers first. */
export function berthsOf(bench: BenchState): { berth: Berth; slot: Slot }[] {
  return [
    ...bench.computers.flatMap((c) =>
      c.slots.map((slot) => ({ berth: { kind: 'slot' as const, computerId: c.id, slot: slot.id }, slot })),
    ),
    ...bench.accessories.flatMap((a) =>
      baysOf(a).map((slot) => ({ berth: { kind: 'bay' as const, accessoryId: a.id, bay: slot.id }, slot })),
    ),
  ]
}

/** The slot or bay of a berth; undefined when the bench has none such. */
export function slotAt(bench: BenchState, place: Place): Slot | undefined {
  if (place.kind === 'slot') {
    return bench.computers.find((c) => c.id === place.computerId)?.slots.find((s) => s.id === place.slot)
  }
  if (place.kind !== 'bay') return undefined
  const accessory = bench.accessories.find((a) => a.id === place.accessoryId)
  return accessory && baysOf(accessory).find((b) => b.id === place.bay)
}

/** A place in words alone. */
export function placeName(place: Place, bench: BenchState): string {
  if (place.kind === 'slot') {
    return `${bench.computers.find((c) => c.id === place.computerId)?.name ?? 'a computer'}, ${place.slot}`
  }
  if (place.kind === 'bay') {
    const accessory = bench.accessories.find((a) => a.id === place.accessoryId)
    if (!accessory) return 'a dock'
    return baysOf(accessory).length > 1 ? `${accessory.name}, ${place.bay}` : accessory.name
  }
  return place.kind === 'shelf' ? 'on the shelf' : 'on the table'
}

/** Where a drive is, in words, with the link it has there. */
export function berthOf(drive: Drive, bench: BenchState): BerthWords {
  const slot = slotAt(bench, drive.place)
  return {
    name: placeName(drive.place, bench),
    link: slot && linkIn(drive, slot),
    inComputer: drive.place.kind === 'slot',
  }
}

/** A text that is the same for the same place. */
export function placeKey(place: Place): string {
  if (place.kind === 'slot') return `slot/${place.computerId}/${place.slot}`
  return place.kind === 'bay' ? `bay/${place.accessoryId}/${place.bay}` : place.kind
}

/** True when both name the same place that only one drive can take. */
export function samePlace(a: Place, b: Place): boolean {
  return a.kind === b.kind && a.kind !== 'shelf' && a.kind !== 'table' && placeKey(a) === placeKey(b)
}

/** The drive in a berth. */
export function driveIn(bench: BenchState, berth: Place): Drive | undefined {
  return bench.drives.find((d) => samePlace(d.place, berth))
}

/** Free brackets of benches by the drive that does not count; a bench never changes, and is asked for each of its places. */
const bracketsOf = new WeakMap<BenchState, Map<string | undefined, number>>()

/** Brackets of the bench that hold no drive now; the drive that is asked for does not count. */
export function freeBrackets(bench: BenchState, besides?: string): number {
  const known = bracketsOf.get(bench) ?? new Map<string | undefined, number>()
  bracketsOf.set(bench, known)
  const free = known.get(besides) ?? countFreeBrackets(bench, besides)
  known.set(besides, free)
  return free
}

function countFreeBrackets(bench: BenchState, besides: string | undefined): number {
  const all = bracketCount(bench.accessories)
  if (all === 0) return 0
  const used = bench.drives.filter((d) => {
    const slot = d.id === besides ? undefined : slotAt(bench, d.place)
    return slot && needsBracket(d.body, slot)
  })
  return all - used.length
}

/** Why a drive cannot go to a place, or undefined when it can. Taking it out of where it is counts too. */
export function whyNotThere(drive: Drive, place: Place, bench: BenchState): string | undefined {
  const stuck = whyStuck(drive, bench)
  if (drive.body.form === 'virtual' && place.kind !== 'slot') return 'A virtual disk stays at its virtual machine.'
  if (place.kind === 'shelf' || place.kind === 'table') return stuck
  const slot = slotAt(bench, place)
  if (!slot) return 'There is no such place on the bench.'
  const misfit = whyNotInto(drive, slot, freeBrackets(bench, drive.id))
  if (misfit) return misfit.sentence
  const other = driveIn(bench, place)
  if (other && other.id !== drive.id) return `The ${driveName(other)} is there already.`
  if (place.kind === 'slot') {
    const computer = bench.computers.find((c) => c.id === place.computerId)!
    if (computer.virtual) return computer.running === 'off' ? stuck : `The ${computer.name} runs.`
    if (computer.mains) return `The ${computer.name} has mains power: pull the cable before a drive is put in.`
  }
  return stuck
}

/** Why a drive cannot be taken out of where it is. */
function whyStuck(drive: Drive, bench: BenchState): string | undefined {
  if (drive.place.kind !== 'slot') return undefined
  const { computerId } = drive.place
  const computer = bench.computers.find((c) => c.id === computerId)
  if (drive.body.form === 'built-in')
    return `The ${driveName(drive)} is built into the ${computer?.name ?? 'computer'} and cannot be taken out.`
  if (computer?.virtual) return computer.running === 'off' ? undefined : `The ${computer.name} runs.`
  return computer?.mains
    ? `The ${computer.name} has mains power: pull the cable before a drive is taken out.`
    : undefined
}
