import { placeKey } from '../things/bench'
import type { Berth, Drive } from '../things/drive'
import type { Computer } from '../things/computer'
import { TIB } from '../bytes/size'
import { judged } from './judge'
import { driveOf, type RouteQuestion } from './question'
import { hostsOf } from './runners'
import { arrange, firstState, makeWorld, placeOf, seatedIn, type Site, type State, type World } from './state'
import { transfersFrom, type Medium, mediumKey } from './transfers'
import type { Plan, Transfer } from './types'
import { effortSeconds, handsOf, openingsOf, thingsOfTransfer, transfersOf } from './measure'

/** Most transfers that one drive's content makes on its way; further ones are looked for only when nothing is found. */
const USUAL_DEPTH = 2
const LAST_DEPTH = 3

/**
 * Every distinct route that brings the move's drives where they will live, best first. The states are where each drive
 * sits, what runs and what holds a copy; between two transfers stand the fewest steps of the hands that the next
 * one needs. Two routes are alike when the same transfers happen between the same places by the same computer; of
 * those the one with the fewest steps stands. A route is left out when another one does as much with a part of the
 * same things, in no more copies, steps and time, so that taking a thing from the bench never adds a route.
 */
export function findPlans(question: RouteQuestion, depths = [USUAL_DEPTH, LAST_DEPTH]): Plan[] {
  const world = makeWorld(question, transferDrives(question))
  for (const depth of depths) {
    const ends = wholeMoves(world, depth)
    if (ends.length > 0) return judged(world, ends)
  }
  return []
}

/** Drives of the shop that may be written to on the way and that nothing else rests on. */
export function transferDrives({ bench, pairs, claimedDrives }: RouteQuestion): string[] {
  const own = pairs.flatMap((p) => [p.sourceId, p.targetId])
  return bench.drives
    .filter((d) => d.purpose === 'transfer' && !own.includes(d.id) && !claimedDrives.includes(d.id))
    .map((d) => d.id)
}

function wholeMoves(world: World, depth: number): State[] {
  const { pairs } = world.question
  const ends: State[] = []
  for (const first of moveOne(world, firstState(world), 0, depth)) {
    let state: State | undefined = first
    for (let i = 1; i < pairs.length && state; i++)
      state = bestOf(world, alike(first, further(world, state, i, depth, first), i))
    const end = state && finish(world, state)
    if (end) ends.push(end)
  }
  return ends
}

/** The routes for a further drive: in one transfer where that can be, since the route was chosen by the system's. */
function further(world: World, state: State, pair: number, depth: number, first: State): State[] {
  for (let d = 1; d <= depth; d++) {
    const found = moveOne(world, state, pair, d)
    if (alike(first, found, pair).length > 0) return found
  }
  return []
}

/**
 * Of the routes for a further drive those that the system's goes with. What is read while the system runs is of one
 * moment on all drives or on none; by the same computer where that can be.
 */
function alike(first: State, states: readonly State[], pair: number): readonly State[] {
  const [pattern] = transfersOf(first.actions)
  const begins = (state: State) => transfersOf(state.actions).find((t: Transfer) => t.pair === pair)!
  const sameMoment = states.filter((s) => begins(s).live === pattern.live)
  const fitting = sameMoment.filter((s) => begins(s).by === pattern.by)
  return fitting.length > 0 ? fitting : sameMoment
}

function bestOf(world: World, states: readonly State[]): State | undefined {
  let best: { state: State; transfers: number; cost: number } | undefined
  for (const state of states) {
    const end = finish(world, state)
    if (!end) continue
    const transfers = transfersOf(end.actions)
    const highSeconds = transfers.reduce((sum, t) => sum + t.highSeconds, 0)
    const cost = effortSeconds({ highSeconds, handSteps: handsOf(end.actions), openings: openingsOf(end.actions) })
    const fewer = transfers.length - (best?.transfers ?? Infinity)
    if (fewer < 0 || (fewer === 0 && cost < best!.cost)) best = { state, transfers: transfers.length, cost }
  }
  return best?.state
}

/** States in which this pair's content has come to its target, each route once. */
function moveOne(world: World, start: State, pair: number, depth: number): State[] {
  const { sourceId, imagesAt } = world.question.pairs[pair]
  const arrived: State[] = []
  let layer: { state: State; at: Medium }[] = [
    { state: start, at: { kind: 'drive', driveId: sourceId } as Medium },
    ...imagesAt.map((store) => ({ state: start, at: { kind: 'image', store } as Medium })),
  ]
  for (let d = 1; d <= depth; d++) {
    const next: { state: State; at: Medium }[] = []
    for (const { state, at } of layer) {
      for (const to of goalsOf(world, pair)) arrived.push(...transfersFrom(world, state, pair, at, to))
      if (d === depth) continue
      for (const to of between(world, state, pair)) {
        for (const after of transfersFrom(world, state, pair, at, to)) next.push({ state: after, at: to })
      }
    }
    layer = withoutDetours(next)
  }
  return arrived
}

function goalsOf(world: World, pair: number): Medium[] {
  const { targetId } = world.question.pairs[pair]
  if (targetId !== null) return [{ kind: 'drive', driveId: targetId }]
  return hostsOf(world.bench).map((h) => ({ kind: 'virtual-disk', hostId: h.id }))
}

/** What can hold the content on the way: a transfer drive in whole, or an image on one or on a host. */
function between(world: World, state: State, pair: number): Medium[] {
  const { question } = world
  const { bytes, sourceId } = question.pairs[pair]
  const source = driveOf(question, sourceId)
  const media: Medium[] = []
  for (const id of world.transferDrives) {
    const drive = driveOf(question, id)
    const images = [...state.holds]
      .filter(([key]) => key.startsWith(`image:${id}:`))
      .map(([, p]) => question.pairs[p].bytes)
    const room = (question.roomOn[id]?.bytes ?? 0) - images.reduce((a, b) => a + b, 0)
    if (room >= bytes && !state.holds.has(`drive:${id}`)) media.push({ kind: 'image', store: id })
    const carries = drive.logicalSectorSize === source.logicalSectorSize && drive.sizeBytes >= source.sizeBytes
    if (carries && images.length === 0 && !state.holds.has(`drive:${id}`)) media.push({ kind: 'drive', driveId: id })
  }
  for (const host of hostsOf(world.bench)) if (host.freeBytes >= bytes) media.push({ kind: 'image', store: host.id })
  return media.filter((v) => !state.holds.has(mediumKey(v, pair)))
}

/**
 * Leaves out a state that another one can be turned into with no more steps than its own: whatever follows it
 * can follow the other. Only one that needs a part of the same things counts.
 */
function withoutDetours(layer: { state: State; at: Medium }[]): { state: State; at: Medium }[] {
  const known = layer.map(({ state, at }) => {
    const transfers = transfersOf(state.actions)
    const last = transfers.at(-1)!
    return {
      state,
      at,
      group: `${JSON.stringify(at)}${last.live}${last.how}`,
      hands: handsOf(state.actions),
      seconds: transfers.reduce((sum, t) => sum + t.highSeconds, 0),
      things: new Set(state.actions.flatMap((a) => (a.do === 'transfer' ? thingsOfTransfer(a) : []))),
    }
  })
  return known.filter(
    (p, i) =>
      !known.some(
        (q, k) =>
          k !== i &&
          q.group === p.group &&
          q.seconds <= p.seconds &&
          q.hands + distance(q.state, p.state) <= p.hands &&
          [...q.things].every((t) => p.things.has(t)) &&
          (k < i || q.seconds < p.seconds || q.hands < p.hands || q.things.size < p.things.size),
      ),
  )
}

/** Steps of the hands that turn where the drives sit in one state into where they sit in the other. */
function distance(a: State, b: State): number {
  let steps = 0
  for (const id of new Set([...a.at.keys(), ...b.at.keys()])) {
    const [from, to] = [a.at.get(id), b.at.get(id)]
    if (from && to && placeKey(from) === placeKey(to)) continue
    steps += 2
  }
  return steps
}

/** Puts the targets where they will live and starts from there; undefined when that cannot be. */
export function finish(world: World, state: State): State | undefined {
  const { goal, pairs } = world.question
  if (goal.kind === 'virtual-machine') {
    const hosts = hostsOf(world.bench).filter((h) => pairs.every((_, i) => state.holds.has(`disk:${h.id}:${i}`)))
    if (hosts.length === 0) return undefined
    return { ...state, actions: [...state.actions, { do: 'start-virtual', hostId: hosts[0].id }] }
  }
  const computer = world.computers.get(goal.computerId)
  if (!computer) return undefined
  const wants = new Map<string, Berth>()
  const sources = new Set(pairs.map((p) => p.sourceId))
  for (const [i, pair] of pairs.entries()) {
    if (pair.targetId === null) continue
    const drive = world.drives.get(pair.targetId)!
    if (i === 0 && whyNotStartFrom(computer, drive)) return undefined
    const taken = new Set([...wants.values()].map(placeKey))
    const here = placeKey(placeOf(world, state, drive.id))
    const source = placeKey(world.drives.get(pair.sourceId)!.place)
    const rank = ({ key, takes }: Site): number => {
      if (taken.has(key) || !takes.has(drive.id)) return Infinity
      if (key === here) return 0
      if (key === source) return pair.stays ? Infinity : 1
      const other = seatedIn(world, state, key)
      if (other === undefined) return 2
      return sources.has(other) && !pair.stays ? 3 : Infinity
    }
    const ranked = (world.sites.get(computer.id) ?? [])
      .map((site) => ({ berth: site.berth, rank: rank(site) }))
      .filter((b) => b.rank < Infinity)
      .sort((a, b) => a.rank - b.rank)
    if (ranked.length === 0) return undefined
    wants.set(drive.id, ranked[0].berth)
    const home = world.drives.get(pair.sourceId)!.place
    if (pair.stays && home.kind === 'slot') wants.set(pair.sourceId, home)
  }
  return arrange(world, state, wants, [{ computerId: computer.id, from: 'target', plugged: [] }])
}

/** Why a computer would not start from a drive although it goes in; undefined when it would. */
export function whyNotStartFrom({ firmware, name }: Computer, drive: Drive): string | undefined {
  if (drive.protocol === 'PCIe' && !firmware.startsFromNvme) {
    return `The firmware of the ${name} is too old to start from NVMe.`
  }
  if (drive.sizeBytes > 2 * TIB && firmware.mode === 'bios' && !firmware.startsBeyond2Tib) {
    return `The ${name} starts by BIOS, which cannot start from a drive of more than 2 TiB.`
  }
  return undefined
}
