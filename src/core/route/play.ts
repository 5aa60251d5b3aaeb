import { lowerFirst } from '../words'
import { type Accessory, isAdapter } from '../things/accessory'
import { type BenchState, driveIn, farBenchOf, isFar, placeKey, placeName, slotAt, whyNotThere } from '../things/bench'
import { mediumKey } from './transfers'
import type { Computer } from '../things/computer'
import { type Drive, driveName, type Place } from '../things/drive'
import type { Socket } from '../things/links'
import type { Pair } from './question'
import type { Action, PlacedMedium, Plan, Transfer } from './types'

/** A bench in the middle of a plan: with what holds the system of which pair. */
export interface Played {
  readonly bench: BenchState
  /** By `drive:ID`, `image:STORE:PAIR`, `disk:HOST:PAIR`. */
  readonly holds: ReadonlyMap<string, number>
}

/** The first action that the bench does not allow, and why. */
export interface PlanViolation {
  readonly at: number
  readonly sentence: string
}

export function beforePlay(bench: BenchState, pairs: readonly Pair[]): Played {
  const holds = new Map<string, number>()
  for (const [i, pair] of pairs.entries()) {
    holds.set(`drive:${pair.sourceId}`, i)
    for (const host of pair.imagesAt) holds.set(`image:${host}:${i}`, i)
  }
  return { bench, holds }
}

/**
 * Does the actions on a model of the bench, one after the other, by the rules that hands and computers know. It
 * shares nothing with the search for plans. Ends at the first action that is not possible.
 */
export function play(
  actions: readonly Action[],
  start: Played,
  pairs: readonly Pair[],
): { readonly end: Played; readonly stop?: PlanViolation } {
  let played = start
  for (const [at, action] of actions.entries()) {
    const sentence = whyNotNow(action, actions.slice(at + 1), played, pairs)
    if (sentence) return { end: played, stop: { at, sentence } }
    played = apply(action, played)
  }
  return { end: played }
}

/** Why a plan, from one of its actions on, cannot be carried out on this bench; undefined when it can. */
export function whyItFails(
  plan: Pick<Plan, 'actions'>,
  from: number,
  start: Played,
  pairs: readonly Pair[],
): string | undefined {
  return play(plan.actions.slice(from), start, pairs).stop?.sentence
}

function whyNotNow(
  action: Action,
  ahead: readonly Action[],
  played: Played,
  pairs: readonly Pair[],
): string | undefined {
  const { bench } = played
  switch (action.do) {
    case 'off':
    case 'secure-boot':
      return computerOf(bench, action.computerId) ? undefined : gone('computer')
    case 'take': {
      const drive = driveOf(bench, action.driveId)
      if (!drive) return gone('drive')
      // Wherever it was plugged in, hands find it.
      if (drive.kernel) return undefined
      if (placeKey(drive.place) !== placeKey(action.from))
        return `The ${driveName(drive)} is not where the plan takes it from: it is ${at(drive.place, bench)}.`
      return whyNotThere(drive, { kind: 'table' }, bench)
    }
    case 'put': {
      const drive = driveOf(bench, action.driveId)
      if (!drive) return gone('drive')
      if (drive.place.kind === 'slot' || drive.place.kind === 'bay')
        return `The ${driveName(drive)} still sits ${at(drive.place, bench)}.`
      // Into which computer it goes is seen, or said.
      if (drive.kernel) return slotAt(bench, action.into) ? undefined : gone('computer')
      const why = whyNotThere(drive, action.into, bench)
      return why && `The ${driveName(drive)} does not go ${at(action.into, bench)}: ${lowerFirst(why)}`
    }
    case 'start':
      return whyNotStart(action.computerId, action.from, ahead, played, pairs)
    case 'start-virtual': {
      const complete = pairs.every((_, i) => played.holds.get(`disk:${action.hostId}:${i}`) === i)
      return complete ? undefined : 'The virtual machine has not all of its disks.'
    }
    case 'transfer':
      return whyNotTransfer(action, played, pairs)
  }
}

function whyNotStart(
  computerId: string,
  from: 'stick' | 'system' | 'target',
  ahead: readonly Action[],
  { bench, holds }: Played,
  pairs: readonly Pair[],
): string | undefined {
  const computer = computerOf(bench, computerId)
  if (!computer) return gone('computer')
  if (computer.running !== 'off') return `The ${computer.name} runs already.`
  const inSlots = bench.drives.filter((d) => d.place.kind === 'slot' && d.place.computerId === computerId)
  const plugged = from === 'target' ? [] : pluggedNext(computerId, ahead)
  const attached = bench.drives.filter(
    (d) => inSlots.includes(d) || (d.place.kind === 'bay' && plugged.includes(d.place.accessoryId)),
  )
  // A target that only takes a volume in has an identity of its own.
  const alike = attached.filter((d) => !pairs.some((p) => p.stays && p.targetId === d.id))
  for (const [i, drive] of alike.entries()) {
    const pair = holds.get(`drive:${drive.id}`)
    const twin = pair === undefined ? undefined : alike.slice(i + 1).find((d) => holds.get(`drive:${d.id}`) === pair)
    if (twin)
      return `The ${driveName(drive)} and the ${driveName(twin)} carry one identity; the ${computer.name} must not start with both.`
  }
  if (from === 'stick') return whyNotByStick(computer, bench)
  const wanted = from === 'system' ? pairs[0].sourceId : pairs[0].targetId
  if (!inSlots.some((d) => d.id === wanted && holds.get(`drive:${d.id}`) === 0))
    return `There is no drive with its system in the ${computer.name}.`
  return undefined
}

function whyNotByStick(computer: Computer, bench: BenchState): string | undefined {
  const sticks = bench.accessories.filter((a) => a.kind === 'stick')
  const away = bench.computers.filter(
    (c) => c.id !== computer.id && c.running === 'stick' && c.farBenchId === undefined,
  ).length
  const { firmware } = computer
  if (sticks.length <= away) return `There is no rescue stick for the ${computer.name}.`
  if (!firmware.startsFromUsb) return `The firmware of the ${computer.name} does not start from USB.`
  const refused = firmware.mode === 'uefi' && firmware.secureBoot && !sticks.some((s) => s.signed)
  return refused ? `Secure Boot of the ${computer.name} does not accept the stick.` : undefined
}

/** Adapters that a computer's transfers go over until it is switched off or started anew. */
function pluggedNext(computerId: string, ahead: readonly Action[]): string[] {
  const plugged: string[] = []
  for (const action of ahead) {
    if ((action.do === 'off' || action.do === 'start') && action.computerId === computerId) break
    if (action.do !== 'transfer' || (action.by !== computerId && action.receivedBy !== computerId)) continue
    for (const { kind, ...medium } of [action.from, action.to]) {
      if (kind !== 'virtual-disk' && 'place' in medium && medium.place?.kind === 'bay')
        plugged.push(medium.place.accessoryId)
    }
  }
  return plugged
}

function whyNotTransfer(action: Transfer, { bench, holds }: Played, pairs: readonly Pair[]): string | undefined {
  const { from, to, pair } = action
  if (holds.get(mediumKey(from, pair)) !== pair) return 'What the plan copies from does not hold this system.'
  for (const medium of [from, to]) {
    const why = whyNotReached(medium, action, bench)
    if (why) return why
  }
  if (to.kind === 'drive') {
    if (pairs.some((p) => p.sourceId === to.driveId)) return 'A source is never written to.'
    const drive = driveOf(bench, to.driveId)!
    if (drive.purpose !== 'transfer' && pairs[pair].targetId !== drive.id)
      return `The ${driveName(drive)} is neither the target nor the shop’s own.`
  }
  for (const id of [action.by, ...(action.receivedBy ? [action.receivedBy] : [])]) {
    const computer = computerOf(bench, id)
    if (!computer) {
      if (!bench.accessories.some((a) => a.id === id && a.kind === 'host')) return gone('computer')
      continue
    }
    const wanted = action.live && id === action.by ? 'system' : 'stick'
    if (computer.running !== wanted) {
      return `The ${computer.name} has to run ${wanted === 'stick' ? 'from the rescue stick' : 'its own system'} for this.`
    }
  }
  return undefined
}

/** Why one end of a transfer is out of reach: the drive sits elsewhere, or not at the one that copies. */
function whyNotReached(medium: PlacedMedium, action: Transfer, bench: BenchState): string | undefined {
  const driveId =
    medium.kind === 'drive' ? medium.driveId : medium.kind === 'image' && medium.place ? medium.store : undefined
  if (driveId === undefined) {
    const host = medium.kind === 'image' ? medium.store : medium.kind === 'virtual-disk' ? medium.hostId : ''
    return bench.accessories.some((a) => a.id === host && a.kind === 'host') ? undefined : gone('host')
  }
  const drive = driveOf(bench, driveId)
  if (!drive) return gone('drive')
  // One of this computer's own is reached wherever it is plugged in.
  if (drive.kernel) return drive.kernel.path === null ? `The ${driveName(drive)} is not plugged in.` : undefined
  // What is a file on this computer is read as it is, wherever the drive sits that it stands for.
  if (drive.image !== null && computerOf(bench, action.by)?.isThis) return undefined
  const place = medium.kind === 'virtual-disk' ? null : medium.place
  if (!place || placeKey(drive.place) !== placeKey(place)) {
    return `The ${driveName(drive)} is ${at(drive.place, bench)}${place ? `, and the plan reads and writes it ${at(place, bench)}` : ''}.`
  }
  if (drive.borrowed && isFar(drive, bench)) return whyNotLent(drive, action, bench)
  if (!slotAt(bench, place)) return `There is no place ${placeName(place, bench)} any more.`
  if (driveIn(bench, place)?.id !== drive.id) return `Another drive sits ${at(place, bench)}.`
  if (place.kind === 'slot' && place.computerId !== action.by && place.computerId !== action.receivedBy) {
    return `The ${driveName(drive)} sits in a computer that has no part in this copy.`
  }
  const adapter = place.kind === 'bay' ? bench.accessories.find((a) => a.id === place.accessoryId) : undefined
  return adapter ? whyNotPlugged(adapter, action, bench) : undefined
}

/** Why a drive of another bench is out of reach: whoever copies has to be in the network, and that bench known. */
function whyNotLent(drive: Drive, action: Transfer, bench: BenchState): string | undefined {
  if (!farBenchOf(drive.borrowed?.farBenchId, bench)) return gone('bench')
  const host = bench.accessories.find((a) => a.id === action.by)
  const isConnected =
    bench.accessories.some((a) => a.kind === 'network') &&
    (host?.kind === 'host' ? host.network !== null : computerOf(bench, action.by)?.networkCards.length)
  return isConnected ? undefined : `The ${driveName(drive)} is lent over the network, which what copies is not in.`
}

function whyNotPlugged(adapter: Accessory, action: Transfer, bench: BenchState): string | undefined {
  if (!isAdapter(adapter)) return gone('dock')
  const fits = [action.by, action.receivedBy].some((id) =>
    socketsAt(bench, id).some((socket) => adapter.plugs.includes(socket.plug)),
  )
  return fits ? undefined : `The ${adapter.name} finds no socket that takes its plug.`
}

function socketsAt(bench: BenchState, id: string | undefined): readonly Socket[] {
  const host = bench.accessories.find((a) => a.id === id)
  return host?.kind === 'host' ? host.sockets : (computerOf(bench, id ?? '')?.sockets ?? [])
}

function apply(action: Action, { bench, holds }: Played): Played {
  const computer = (id: string, changes: (c: Computer) => Partial<Computer>): BenchState => ({
    ...bench,
    computers: bench.computers.map((c) => (c.id === id ? { ...c, ...changes(c) } : c)),
  })
  const drive = (id: string, place: Place): BenchState => ({
    ...bench,
    drives: bench.drives.map((d) => (d.id === id ? { ...d, place } : d)),
  })
  switch (action.do) {
    case 'off':
      return { holds, bench: computer(action.computerId, () => ({ running: 'off', mains: false })) }
    case 'secure-boot':
      return {
        holds,
        bench: computer(action.computerId, (c) => ({ firmware: { ...c.firmware, secureBoot: action.on } })),
      }
    case 'start': {
      const running = action.from === 'stick' ? 'stick' : 'system'
      return { holds, bench: computer(action.computerId, () => ({ running, mains: true })) }
    }
    case 'take':
      return { holds, bench: drive(action.driveId, { kind: 'table' }) }
    case 'put':
      return { holds, bench: drive(action.driveId, action.into) }
    case 'start-virtual':
      return { holds, bench }
    case 'transfer':
      return { bench, holds: new Map(holds).set(mediumKey(action.to, action.pair), action.pair) }
  }
}

function at(place: Place, bench: BenchState): string {
  const name = placeName(place, bench)
  if (place.kind === 'far') return `at ${name}`
  return place.kind === 'slot' || place.kind === 'bay' ? `in ${name}` : name
}

const computerOf = (bench: BenchState, id: string): Computer | undefined => bench.computers.find((c) => c.id === id)
const driveOf = (bench: BenchState, id: string): Drive | undefined => bench.drives.find((d) => d.id === id)
const gone = (what: string) => `A ${what} of the plan is no longer on the bench.`
