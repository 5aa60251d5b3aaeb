import { baysOf, bracketCount, type Accessory, type FarBench } from './accessory'
import { linkIn, needsBracket, type Slot, whyNotInto } from './bodies'
import type { Computer } from './computer'
import { type Berth, type Drive, driveName, type LentBy, type Place } from './drive'
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
    const computer = bench.computers.find((c) => c.id === place.computerId)
    const far = computer && farBenchOf(computer.farBenchId, bench)
    return `${far ? `${far.name}, ` : ''}${computer?.name ?? 'a computer'}, ${place.slot}`
  }
  if (place.kind === 'far') return farBenchOf(place.accessoryId, bench)?.name ?? 'another bench'
  if (place.kind === 'bay') {
    const accessory = bench.accessories.find((a) => a.id === place.accessoryId)
    if (!accessory) return 'a dock'
    return baysOf(accessory).length > 1 ? `${accessory.name}, ${place.bay}` : accessory.name
  }
  return place.kind === 'shelf' ? 'on the shelf' : 'on the table'
}

/** Another bench by its id. */
export function farBenchOf(id: string | undefined, bench: Pick<BenchState, 'accessories'>): FarBench | undefined {
  const found = id === undefined ? undefined : bench.accessories.find((a) => a.id === id)
  return found?.kind === 'far-bench' ? found : undefined
}

/** Where a drive is, in words, with the link it has there: to this bench, of one that another one lends. */
export function berthOf(drive: Drive, bench: BenchState): BerthWords {
  const slot = slotAt(bench, drive.place)
  return {
    name: placeName(drive.place, bench),
    link: isFar(drive, bench) ? linkOfBorrowed(drive, bench) : slot && linkIn(drive, slot),
    inComputer: drive.place.kind === 'slot',
  }
}

/** The bench that lends a drive, and how the connection to it stands; null for one of this bench's own. */
export function lentByOf(drive: Drive, bench: BenchState): LentBy | null {
  const { borrowed } = drive
  // One that hands have taken out of there is no longer read from there.
  if (!borrowed || !isFar(drive, bench)) return null
  const { farBenchId, state, bytesPerSecond } = borrowed
  return { bench: farBenchOf(farBenchId, bench)?.name ?? 'another bench', state, bytesPerSecond }
}

/** True for a drive that is at another bench now, in whatever place. */
export function isFar({ place }: Pick<Drive, 'place'>, bench: BenchState): boolean {
  if (place.kind !== 'slot') return place.kind === 'far'
  return bench.computers.find((c) => c.id === place.computerId)?.farBenchId !== undefined
}

/** The link over which a drive of another bench is read; undefined where it cannot be now. */
export function linkOfBorrowed({ borrowed }: Drive, bench: Pick<BenchState, 'accessories'>): LinkId | undefined {
  return borrowed?.state === 'here' ? farBenchOf(borrowed.farBenchId, bench)?.link : undefined
}

/** A text that is the same for the same place. */
export function placeKey(place: Place): string {
  if (place.kind === 'slot') return `slot/${place.computerId}/${place.slot}`
  if (place.kind === 'far') return `far/${place.accessoryId}`
  return place.kind === 'bay' ? `bay/${place.accessoryId}/${place.bay}` : place.kind
}

/** True when both name the same place that only one drive can take. */
export function samePlace(a: Place, b: Place): boolean {
  return a.kind === b.kind && (a.kind === 'slot' || a.kind === 'bay') && placeKey(a) === placeKey(b)
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

/**
 * Why hands do not say where a drive of this computer is, or that another one is in it; undefined where they do. What is
 * plugged in is seen.
 */
export function whySeenOnly({ kernel, ...drive }: Drive, place: Place, bench: BenchState): string | undefined {
  if (placeKey(place) === placeKey(drive.place)) return undefined
  if (!kernel && isOfThis(place, bench))
    return `What is in this computer is seen, and the ${driveName(drive)} is not plugged into it.`
  if (!kernel) return undefined
  if (kernel.path !== null)
    return `The ${driveName(drive)} is plugged in here, as ${kernel.path}. Take it out first: where it is, is seen.`
  if (!isOfThis(place, bench)) return undefined
  return `The ${driveName(drive)} is not plugged in. Once it is, it is seen where it is.`
}

/** True for a slot or a port of the computer that Imbarco runs on. */
function isOfThis(place: Place, { computers, drives }: BenchState): boolean {
  if (place.kind === 'slot') return computers.find((c) => c.id === place.computerId)?.isThis === true
  return place.kind === 'bay' && drives.some((d) => d.kernel?.path != null && placeKey(d.place) === placeKey(place))
}

/** Why a drive cannot go to a place, or undefined when it can. Taking it out of where it is counts too. */
export function whyNotThere(drive: Drive, place: Place, bench: BenchState): string | undefined {
  const stuck = whyStuck(drive, place, bench)
  if (drive.body.form === 'virtual' && place.kind !== 'slot') return 'A virtual disk stays at its virtual machine.'
  if (place.kind === 'shelf' || place.kind === 'table') return stuck
  if (place.kind === 'far') return 'What goes to another bench is taken there by hand, and lent from there.'
  const slot = slotAt(bench, place)
  if (!slot) return 'There is no such place on the bench.'
  const { borrowed } = drive
  const there = place.kind === 'slot' ? bench.computers.find((c) => c.id === place.computerId)?.farBenchId : undefined
  if (borrowed && borrowed.farBenchId !== there) {
    const { name } = farBenchOf(borrowed.farBenchId, bench) ?? { name: 'another bench' }
    return `The ${driveName(drive)} is lent by ${name}: it is read over the network, or taken in here as a drive of its own.`
  }
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

/** A place of the bench that a drive can be put into, with its key and its name. */
export interface FreePlace {
  readonly key: string
  readonly name: string
  readonly place: Place
}

/** The slots of computers that would take a drive, were their cables pulled. */
export function slotsThatTake(drive: Drive, bench: BenchState): FreePlace[] {
  const unplugged = { ...bench, computers: bench.computers.map((c) => ({ ...c, mains: false })) }
  return unplugged.computers.flatMap((computer) =>
    computer.slots.flatMap((slot) => {
      const place: Place = { kind: 'slot', computerId: computer.id, slot: slot.id }
      if (whyNotThere(drive, place, unplugged)) return []
      return [{ key: placeKey(place), name: placeName(place, unplugged), place }]
    }),
  )
}

/** Why a drive cannot be taken out of where it is. */
function whyStuck(drive: Drive, to: Place, bench: BenchState): string | undefined {
  if (drive.place.kind === 'far') {
    const { accessoryId } = drive.place
    // Whoever is there puts it into a computer of theirs.
    if (to.kind === 'slot' && bench.computers.find((c) => c.id === to.computerId)?.farBenchId === accessoryId) return
    const { name } = farBenchOf(accessoryId, bench) ?? { name: 'another bench' }
    return `The ${driveName(drive)} is lent by ${name}, where it stays.`
  }
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
