import { type Adapter, bracketCount } from '../things/accessory'
import { type BenchState, berthsOf, placeKey, slotAt } from '../things/bench'
import { needsBracket, type Slot, whyNotInto } from '../things/bodies'
import type { Computer } from '../things/computer'
import type { Berth, Drive, Place } from '../things/drive'
import { adaptersOf } from './runners'
import type { RouteQuestion } from './question'
import type { Action } from './types'

/** A berth with what is asked of it again and again. */
export interface Site {
  readonly berth: Berth
  readonly key: string
  readonly slot: Slot
  /** The same for slots that are alike in what they take and give. */
  readonly kind: string
  /** The drives of the move that go in. */
  readonly takes: ReadonlySet<string>
}

/** What does not change during a search, looked up once. */
export interface World {
  readonly question: RouteQuestion
  readonly bench: BenchState
  readonly drives: ReadonlyMap<string, Drive>
  readonly computers: ReadonlyMap<string, Computer>
  readonly adapters: readonly Adapter[]
  /** Drives that the move is about. */
  readonly theirs: ReadonlySet<string>
  /** Those of them that it may take out and put in. */
  readonly movable: ReadonlySet<string>
  /** Who sits where at the start, by place. */
  readonly seated: ReadonlyMap<string, string>
  readonly sticks: readonly { id: string; name: string; plug: 'A' | 'C'; signed: boolean }[]
  /** Sticks that other computers run from. */
  readonly sticksAway: number
  readonly brackets: number
  /** Drives of the shop that may be written to on the way. */
  readonly transferDrives: readonly string[]
  /** Slots by computer and bays by adapter. */
  readonly sites: ReadonlyMap<string, readonly Site[]>
  /** True when some drive of the move would sit somewhere by a bracket, so that brackets are counted. */
  readonly countsBrackets: boolean
}

/** A state of the search. Maps hold only what differs from the bench at the start. */
export interface State {
  readonly at: ReadonlyMap<string, Place>
  readonly running: ReadonlyMap<string, Computer['running']>
  readonly secureBoot: ReadonlyMap<string, boolean>
  /** Which pair's system each medium carries. */
  readonly holds: ReadonlyMap<string, number>
  readonly actions: readonly Action[]
}

/** Something that is started, and what is plugged into it then. */
export interface Start {
  readonly computerId: string
  readonly from: 'stick' | 'system' | 'target'
  readonly plugged: readonly string[]
}

export function makeWorld(question: RouteQuestion, transferDrives: readonly string[]): World {
  const { bench, pairs } = question
  const own = new Set([question.computerId, question.goal.kind === 'computer' ? question.goal.computerId : ''])
  const soldered = new Set(bench.drives.filter((d) => d.body.form === 'built-in').map((d) => d.id))
  const theirs = new Set([
    ...pairs.flatMap((p) => [p.sourceId, ...(p.targetId ? [p.targetId] : [])]),
    ...transferDrives,
    ...Object.keys(question.twins ?? {}),
  ])
  const movable = new Set([...theirs].filter((id) => !soldered.has(id)))
  const brackets = bracketCount(bench.accessories)
  const moving = bench.drives.filter((d) => movable.has(d.id))
  const sites = new Map<string, Site[]>()
  let countsBrackets = false
  for (const { berth, slot } of berthsOf(bench)) {
    const owner = berth.kind === 'slot' ? berth.computerId : berth.accessoryId
    // No drive goes into a computer that the move is not about.
    if (berth.kind === 'slot' && !own.has(berth.computerId)) continue
    countsBrackets ||= moving.some((d) => needsBracket(d.body, slot))
    const there = berth.kind === 'slot' ? bench.computers.find((c) => c.id === owner)?.farBenchId : undefined
    // What another bench lends stays there.
    const mayGo = ({ borrowed }: Drive) => borrowed === undefined || borrowed.farBenchId === there
    const takes = new Set(moving.filter((d) => mayGo(d) && !whyNotInto(d, slot, brackets)).map((d) => d.id))
    const site = { berth, slot, key: placeKey(berth), kind: JSON.stringify([slot.takes, slot.speaks]), takes }
    sites.set(owner, [...(sites.get(owner) ?? []), site])
  }
  return {
    question,
    bench,
    drives: new Map(bench.drives.map((d) => [d.id, d])),
    computers: new Map(bench.computers.map((c) => [c.id, c])),
    adapters: adaptersOf(bench),
    theirs,
    movable,
    transferDrives,
    sites,
    countsBrackets,
    seated: new Map(bench.drives.map((d) => [placeKey(d.place), d.id])),
    sticks: bench.accessories
      .filter((a) => a.kind === 'stick')
      .sort((a, b) => Number(b.signed) - Number(a.signed) || (a.id < b.id ? -1 : 1)),
    sticksAway: bench.computers.filter((c) => c.running === 'stick' && c.farBenchId === undefined && !own.has(c.id))
      .length,
    brackets,
  }
}

export function firstState({ question }: World): State {
  const holds = new Map<string, number>()
  for (const [i, pair] of question.pairs.entries()) {
    holds.set(`drive:${pair.sourceId}`, i)
    for (const host of pair.imagesAt) holds.set(`image:${host}:${i}`, i)
  }
  for (const [id, pair] of Object.entries(question.twins ?? {})) holds.set(`drive:${id}`, pair)
  return { at: new Map(), running: new Map(), secureBoot: new Map(), holds, actions: [] }
}

export function placeOf(world: World, state: State, driveId: string): Place {
  return state.at.get(driveId) ?? world.drives.get(driveId)!.place
}

export function runningOf(world: World, state: State, computerId: string): Computer['running'] {
  return state.running.get(computerId) ?? world.computers.get(computerId)!.running
}

/** Who sits in a berth now. */
export function seatedIn(world: World, state: Pick<State, 'at'>, key: string): string | undefined {
  for (const [id, place] of state.at) if (placeKey(place) === key) return id
  const first = world.seated.get(key)
  return first !== undefined && !state.at.has(first) ? first : undefined
}

/** The stick a computer is started from: one that its Secure Boot accepts, when there is one. */
export function stickFor(world: World, state: State, computerId: string) {
  const taken = [...world.computers.keys()].filter(
    (id) => id !== computerId && runningOf(world, state, id) === 'stick' && state.running.has(id),
  ).length
  return world.sticks[taken + world.sticksAway]
}

/**
 * Brings drives where they are wanted and starts what has to run, with the fewest actions that do it: what is in
 * the way goes to the table, computers are off while their slots are touched, and no computer starts with two
 * drives of one identity attached. Undefined when it cannot be done.
 */
export function arrange(
  world: World,
  state: State,
  wanted: ReadonlyMap<string, Berth>,
  starts: readonly Start[],
): State | undefined {
  const moving: { id: string; from: Place; into: Berth; key: string }[] = []
  for (const [id, into] of wanted) {
    const from = placeOf(world, state, id)
    const key = placeKey(into)
    if (placeKey(from) !== key) moving.push({ id, from, into, key })
  }
  if (moving.length === 0 && starts.every((start) => runsAlready(world, state, start))) return state
  const at = new Map(state.at)
  const takes: { id: string; from: Place }[] = []
  const takeOut = (id: string) => {
    const from = at.get(id) ?? world.drives.get(id)!.place
    if (from.kind === 'slot' || from.kind === 'bay') takes.push({ id, from })
    at.set(id, ON_THE_TABLE)
  }

  for (const { id, key } of moving) {
    const other = seatedIn(world, { at }, key)
    if (other === undefined || other === id) continue
    if (!world.movable.has(other) || placeKey(wanted.get(other) ?? ON_THE_TABLE) === key) return undefined
    if (!moving.some((m) => m.id === other)) takeOut(other)
  }
  for (const { id } of moving) takeOut(id)
  for (const { id, into } of moving) at.set(id, into)
  // Whatever carries one identity twice is parted before the computer starts, which means taking it out first.
  for (const start of starts) {
    const touched =
      takes.some((t) => isSlotOf(t.from, start.computerId)) || moving.some((m) => isSlotOf(m.into, start.computerId))
    if (!touched && runsAlready(world, state, start)) continue
    const seen = new Map<number, string>()
    for (const id of attached(world, at, start)) {
      const pair = state.holds.get(`drive:${id}`)
      if (pair === undefined || keepsItsOwn(world, id)) continue
      const twin = seen.get(pair)
      if (twin === undefined) {
        seen.set(pair, id)
        continue
      }
      const out = [id, twin].find((one) => !wanted.has(one) && world.movable.has(one))
      if (out === undefined) return undefined
      takeOut(out)
      seen.set(pair, out === id ? twin : id)
    }
  }

  const actions = [...state.actions]
  const running = new Map(state.running)
  const opened = new Set<string>()
  for (const { from } of takes) if (from.kind === 'slot') opened.add(from.computerId)
  for (const { into } of moving) if (into.kind === 'slot') opened.add(into.computerId)
  const stopped = new Set(opened)
  for (const start of starts) if (!runsAlready(world, state, start)) stopped.add(start.computerId)
  for (const computerId of stopped) {
    const computer = world.computers.get(computerId)!
    const now = running.get(computerId) ?? computer.running
    // A slot is only touched without mains; a computer that was off at the start may still have it.
    const powered = opened.has(computerId) && !running.has(computerId) && computer.mains
    if (now !== 'off' || powered) actions.push({ do: 'off', computerId })
    running.set(computerId, 'off')
  }
  for (const { id, from } of takes) actions.push({ do: 'take', driveId: id, from })
  for (const { id, into } of moving) actions.push({ do: 'put', driveId: id, into })
  if (world.countsBrackets && moving.length > 0) {
    if (bracketsUsed(world, at) > Math.max(world.brackets, bracketsUsed(world, new Map()))) return undefined
  }
  const secureBoot = new Map(state.secureBoot)
  for (const { computerId, from } of starts) {
    if ((running.get(computerId) ?? world.computers.get(computerId)!.running) === runningAs(from)) {
      if (from !== 'target') continue
    }
    const { firmware } = world.computers.get(computerId)!
    const secure = secureBoot.get(computerId) ?? firmware.secureBoot
    if (from === 'stick') {
      const stick = stickFor(world, { ...state, running }, computerId)
      if (!stick || !firmware.startsFromUsb) return undefined
      if (firmware.mode === 'uefi' && secure && !stick.signed) {
        actions.push({ do: 'secure-boot', computerId, on: false })
        secureBoot.set(computerId, false)
      }
    } else if (firmware.secureBoot && !secure) {
      actions.push({ do: 'secure-boot', computerId, on: true })
      secureBoot.set(computerId, true)
    }
    actions.push({ do: 'start', computerId, from })
    running.set(computerId, runningAs(from))
  }
  return { at, running, secureBoot, holds: state.holds, actions }
}

/** A target that only takes a volume in has an identity of its own. */
const keepsItsOwn = ({ question }: World, id: string) => question.pairs.some((p) => p.stays && p.targetId === id)

const ON_THE_TABLE: Place = { kind: 'table' }

const runningAs = (from: Start['from']) => (from === 'stick' ? 'stick' : 'system')

function runsAlready(world: World, state: State, { computerId, from }: Start): boolean {
  return from !== 'target' && runningOf(world, state, computerId) === runningAs(from)
}

const isSlotOf = (place: Place, computerId: string) => place.kind === 'slot' && place.computerId === computerId

/** Drives in a computer's slots and in what is plugged into it. */
function attached(world: World, at: ReadonlyMap<string, Place>, { computerId, plugged }: Start): string[] {
  const found: string[] = []
  for (const id of world.theirs) {
    const place = at.get(id) ?? world.drives.get(id)!.place
    if (isSlotOf(place, computerId) || (place.kind === 'bay' && plugged.includes(place.accessoryId))) found.push(id)
  }
  return found
}

function bracketsUsed(world: World, at: ReadonlyMap<string, Place>): number {
  let used = 0
  for (const drive of world.bench.drives) {
    const slot = slotAt(world.bench, at.get(drive.id) ?? drive.place)
    if (slot && needsBracket(drive.body, slot)) used++
  }
  return used
}
