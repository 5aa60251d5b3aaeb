import type { Adapter } from '../things/accessory'
import { farBenchOf, isFar, placeKey, placeName, slotAt } from '../things/bench'
import { linkIn } from '../things/bodies'
import { type Berth, type Drive, driveName, type Place } from '../things/drive'
import { type LinkId, slower, type UsbLink } from '../things/links'
import { healthVerdict } from '../health/health'
import { hostsOf, networkOf, type Plugged, plugIn, type Runner, runnerName } from './runners'
import { arrange, placeOf, seatedIn, type Site, type Start, type State, stickFor, type World } from './state'
import { driveEnd, type End, legRange, legTiming } from './timing'
import type { PlacedMedium, Transfer } from './types'

/** What a transfer reads from or writes to, before it is said where a drive among them sits. */
export type Medium =
  | { readonly kind: 'drive'; readonly driveId: string }
  | { readonly kind: 'image'; readonly store: string }
  | { readonly kind: 'virtual-disk'; readonly hostId: string }

export function mediumKey(medium: Medium, pair: number): string {
  if (medium.kind === 'drive') return `drive:${medium.driveId}`
  return medium.kind === 'image' ? `image:${medium.store}:${pair}` : `disk:${medium.hostId}:${pair}`
}

/** How a medium is reached: over a berth that a drive sits in, or by a host's own disk. */
interface Access {
  readonly berth?: Berth
  readonly driveId?: string
  readonly adapter?: Adapter
  /** For a host's disk that is reached from elsewhere, and a drive that another bench lends. */
  readonly network?: LinkId
  /** Of one that is reached wherever it is: what another bench lends, or an image on this computer that stands for a drive. */
  readonly anywhere?: Place
}

/** Every way in which this pair's system can be moved from one medium to another, each with the state it leads to. */
export function transfersFrom(world: World, state: State, pair: number, from: Medium, to: Medium): State[] {
  const found: State[] = []
  const before = lastTransfer(state)
  for (const runner of runnersFor(world, state, from)) {
    const over = (source: Access): State[] =>
      accesses(world, state, to, runner, source)
        .map((target) => move(world, state, { pair, from, to, runner, source, target }))
        .filter((next) => next !== undefined)
    const sources = accesses(world, state, from, runner)
    // What the same runner has just written is read where it sits: elsewhere it could have been written at once.
    const stays = before?.by === runner.id ? sources.find((s) => s.adapter && isHere(world, state, s)) : undefined
    const staying = stays ? over(stays) : []
    found.push(...(staying.length > 0 ? staying : sources.filter((s) => s !== stays).flatMap(over)))
  }
  return [...found, ...overTheNetwork(world, state, pair, from, to)]
}

function lastTransfer(state: State): Transfer | undefined {
  return state.actions.findLast((a) => a.do === 'transfer')
}

function isHere(world: World, state: State, { berth, driveId }: Access): boolean {
  return !!berth && !!driveId && placeKey(placeOf(world, state, driveId)) === placeKey(berth)
}

/** Who can do it: the move's computers by the stick, the source's by its own system, and the shop's hosts. */
function runnersFor(world: World, state: State, from: Medium): Runner[] {
  const { question, bench } = world
  const ids = new Set([question.computerId, ...(question.goal.kind === 'computer' ? [question.goal.computerId] : [])])
  const runners: Runner[] = []
  for (const id of ids) {
    const computer = world.computers.get(id)
    // One at another bench lends what is in it, and does nothing else for this one.
    if (!computer || computer.farBenchId !== undefined) continue
    if (computer.isThis) continue
    if (stickFor(world, state, id) && computer.firmware.startsFromUsb) {
      runners.push({ kind: 'computer', id, computer, mode: 'stick' })
    }
    // Its own system can only be read by itself, from where it lives, and while it has not been taken apart.
    const home = from.kind === 'drive' ? placeOf(world, state, from.driveId) : undefined
    const untouched = state.actions.every((a) => a.do === 'transfer' && a.live)
    if (id === question.computerId && untouched && home?.kind === 'slot' && home.computerId === id) {
      if (question.pairs.some((p) => from.kind === 'drive' && p.sourceId === from.driveId)) {
        runners.push({ kind: 'computer', id, computer, mode: 'system' })
      }
    }
  }
  // Imbarco runs on it already, whatever computer the move is about.
  const here = bench.computers.find((c) => c.isThis)
  if (here) runners.push({ kind: 'computer', id: here.id, computer: here, mode: 'stick' })
  return [...runners, ...hostsOf(bench).map((host) => ({ kind: 'host', id: host.id, host }) as const)]
}

function accesses(world: World, state: State, medium: Medium, runner: Runner, beside?: Access): Access[] {
  if (medium.kind === 'virtual-disk' || (medium.kind === 'image' && !world.drives.has(medium.store))) {
    const hostId = medium.kind === 'image' ? medium.store : medium.hostId
    if (runner.id === hostId) return [{}]
    const host = hostsOf(world.bench).find((h) => h.id === hostId)
    const ours = networkOf(runner, world.bench)
    const theirs = host && networkOf({ kind: 'host', id: host.id, host }, world.bench)
    return ours && theirs ? [{ network: slower(ours, theirs) }] : []
  }
  const driveId = medium.kind === 'drive' ? medium.driveId : medium.store
  if (beside?.driveId === driveId) return []
  const drive = world.drives.get(driveId)!
  if (drive.borrowed && isFar(drive, world.bench)) return lentAccesses(world, state, drive, runner)
  if (drive.kernel) return seenAccesses(world, state, drive, runner)
  if (runner.kind === 'computer' && runner.computer.isThis) {
    // What is simulated is not plugged into a computer that is not; an image is a file on it.
    return drive.image === null ? [] : [{ driveId, anywhere: placeOf(world, state, driveId) }]
  }
  if (runner.kind === 'computer' && runner.mode === 'system') {
    const place = placeOf(world, state, driveId)
    // A running computer's slots stay as they are, and it does not run from a drive behind USB.
    const inside = place.kind === 'slot' && place.computerId === runner.id ? [{ berth: place, driveId }] : []
    return beside ? [...inside, ...inAdapters(world, state, drive, beside)] : inside
  }
  const inside = runner.kind === 'computer' ? inSlots(world, state, drive, runner.id, beside) : []
  return [...inside, ...inAdapters(world, state, drive, beside)]
}

/** Where it is plugged into this computer, by nothing else; a drive that would have to be brought there first is seen then. */
function seenAccesses(world: World, state: State, drive: Drive, runner: Runner): Access[] {
  const place = placeOf(world, state, drive.id)
  const isPluggedIn = drive.kernel!.path !== null && placeKey(place) === placeKey(drive.place)
  if (!isPluggedIn || runner.kind !== 'computer' || !runner.computer.isThis) return []
  if (place.kind !== 'slot' && place.kind !== 'bay') return []
  const adapter = place.kind === 'bay' ? world.adapters.find((a) => a.id === place.accessoryId) : undefined
  return [{ berth: place, driveId: drive.id, ...(adapter ? { adapter } : {}) }]
}

/** By the network, as long as nobody has taken it out of where it is lent from. */
function lentAccesses(world: World, state: State, drive: Drive, runner: Runner): Access[] {
  const ours = networkOf(runner, world.bench)
  const theirs = farBenchOf(drive.borrowed!.farBenchId, world.bench)?.link
  const place = placeOf(world, state, drive.id)
  if (!ours || !theirs || placeKey(place) !== placeKey(drive.place)) return []
  return [{ driveId: drive.id, network: slower(ours, theirs), anywhere: place }]
}

/** One berth for each kind of slot of a computer: where it sits already, one that gets free, a free one. */
function inSlots(world: World, state: State, drive: Drive, computerId: string, beside: Access | undefined): Access[] {
  const kinds = new Map<string, Site[]>()
  for (const site of world.sites.get(computerId) ?? []) {
    if (site.takes.has(drive.id)) kinds.set(site.kind, [...(kinds.get(site.kind) ?? []), site])
  }
  return [...kinds.values()].flatMap((sites) => {
    const berth = bestBerth(world, state, drive.id, sites, beside)
    return berth ? [{ berth, driveId: drive.id }] : []
  })
}

function inAdapters(world: World, state: State, drive: Drive, beside: Access | undefined): Access[] {
  return world.adapters.flatMap((adapter) => {
    const fitting = (world.sites.get(adapter.id) ?? []).filter((site) => site.takes.has(drive.id))
    const berth = bestBerth(world, state, drive.id, fitting, beside)
    return berth ? [{ berth, driveId: drive.id, adapter }] : []
  })
}

function bestBerth(
  world: World,
  state: State,
  driveId: string,
  sites: readonly Site[],
  beside: Access | undefined,
): Berth | undefined {
  if (sites.length === 0) return undefined
  const here = placeKey(placeOf(world, state, driveId))
  const besideKey = beside?.berth && placeKey(beside.berth)
  const rank = ({ key }: Site): number => {
    if (besideKey === key) return Infinity
    if (key === here) return 0
    const other = seatedIn(world, state, key)
    if (other === undefined) return 2
    if (other === beside?.driveId) return 1
    return world.movable.has(other) ? 3 : Infinity
  }
  let best: { berth: Berth; rank: number } | undefined
  for (const site of sites) {
    const r = rank(site)
    if (r < (best?.rank ?? Infinity)) best = { berth: site.berth, rank: r }
  }
  return best?.berth
}

interface Moving {
  readonly pair: number
  readonly from: Medium
  readonly to: Medium
  readonly runner: Runner
  readonly source: Access
  readonly target: Access
}

function move(world: World, state: State, moving: Moving): State | undefined {
  const { pair, from, to, runner, source, target } = moving
  const adapters = [source.adapter, target.adapter].filter((a) => a !== undefined)
  const distinct = [...new Set(adapters)]
  const plugged = plug(world, state, distinct, runner)
  if (!plugged.works) return undefined
  const starts: Start[] =
    runner.kind === 'computer' ? [{ computerId: runner.id, from: runner.mode, plugged: distinct.map((a) => a.id) }] : []
  const ready = arrange(world, state, wantsOf(source, target), starts)
  if (!ready) return undefined
  const fromEnd = endOf(world, from, source, plugged.links)
  const toEnd = endOf(world, to, target, plugged.links)
  const how = from.kind === 'image' ? 'restore' : to.kind === 'image' ? 'capture' : 'copy'
  return done(ready, {
    how: to.kind === 'virtual-disk' ? 'write-disk' : how,
    pair,
    from: placedMedium(from, source),
    to: placedMedium(to, target),
    by: runner.id,
    live: runner.kind === 'computer' && runner.mode === 'system',
    ...timed(world, pair, from, fromEnd, toEnd, `${linkKeyOf(source, fromEnd)}>${linkKeyOf(target, toEnd)}`),
  })
}

/** From the slots of one computer to those of another, or to what is at a host. */
function overTheNetwork(world: World, state: State, pair: number, from: Medium, to: Medium): State[] {
  if (from.kind !== 'drive' || to.kind !== 'drive') return []
  const found: State[] = []
  const runners = runnersFor(world, state, from)
  for (const sender of runners) {
    if (sender.kind !== 'computer' || sender.computer.isThis) continue
    const ours = networkOf(sender, world.bench)
    if (!ours) continue
    const sources = accesses(world, state, from, sender).filter((a) => !a.adapter)
    for (const receiver of runners) {
      if (receiver.kind === 'computer' && receiver.computer.isThis) continue
      if (receiver.id === sender.id || (receiver.kind === 'computer' && receiver.mode !== 'stick')) continue
      const theirs = networkOf(receiver, world.bench)
      if (!theirs) continue
      for (const source of sources) {
        for (const target of accesses(world, state, to, receiver, source)) {
          if (receiver.kind === 'computer' && target.adapter) continue
          const next = send(world, state, {
            pair,
            from,
            to,
            sender,
            receiver,
            source,
            target,
            link: slower(ours, theirs),
          })
          if (next) found.push(next)
        }
      }
    }
  }
  return found
}

interface Sending extends Omit<Moving, 'runner'> {
  readonly sender: Extract<Runner, { kind: 'computer' }>
  readonly receiver: Runner
  readonly link: LinkId
}

function send(world: World, state: State, sending: Sending): State | undefined {
  const { pair, from, to, sender, receiver, source, target, link } = sending
  const plugged = plug(world, state, target.adapter ? [target.adapter] : [], receiver)
  if (!plugged.works) return undefined
  const starts: Start[] = [{ computerId: sender.id, from: sender.mode, plugged: [] }]
  if (receiver.kind === 'computer') starts.push({ computerId: receiver.id, from: 'stick', plugged: [] })
  const ready = arrange(world, state, wantsOf(source, target), starts)
  if (!ready) return undefined
  const near = endOf(world, from, source, plugged.links)
  const fromEnd: End = { ...near, links: [...near.links, { name: 'the network', link }] }
  const toEnd = endOf(world, to, target, plugged.links)
  return done(ready, {
    how: 'send',
    pair,
    from: placedMedium(from, source),
    to: placedMedium(to, target),
    by: sender.id,
    receivedBy: receiver.id,
    live: sender.mode === 'system',
    ...timed(world, pair, from, fromEnd, toEnd, `${linkKeyOf(source, near)}>${link}>${linkKeyOf(target, toEnd)}`),
  })
}

function plug(world: World, state: State, adapters: readonly Adapter[], runner: Runner): Plugged {
  // Its ports are seen with what they agreed on.
  if (runner.kind === 'computer' && runner.computer.isThis) return { works: true, links: new Map() }
  const stick = runner.kind === 'computer' && runner.mode === 'stick' ? stickFor(world, state, runner.id) : undefined
  return plugIn(adapters, runner, stick && { id: stick.id, name: stick.name, plugs: [stick.plug] })
}

function wantsOf(...ends: readonly Access[]): Map<string, Berth> {
  return new Map(ends.flatMap((e) => (e.berth && e.driveId ? [[e.driveId, e.berth] as const] : [])))
}

function placedMedium(medium: Medium, access: Access): PlacedMedium {
  const place = access.berth ?? access.anywhere
  if (medium.kind === 'drive') return { kind: 'drive', driveId: medium.driveId, place: place! }
  if (medium.kind === 'image') return { kind: 'image', store: medium.store, place: place ?? null }
  return medium
}

function endOf(world: World, medium: Medium, access: Access, sockets: ReadonlyMap<string, UsbLink>): End {
  if (access.berth && access.driveId) {
    const drive = world.drives.get(access.driveId)!
    const own = linkIn(drive, slotAt(world.bench, access.berth)!)!
    const socket = access.adapter && sockets.get(access.adapter.id)
    const link = socket ? slower(own, socket) : own
    return driveEnd(drive, driveName(drive), [{ name: placeName(access.berth, world.bench), link }])
  }
  if (access.anywhere && access.driveId) {
    const drive = world.drives.get(access.driveId)!
    if (!drive.borrowed) return driveEnd(drive, driveName(drive), [{ name: 'the disk of this computer', link: 'own' }])
    const { name } = farBenchOf(drive.borrowed.farBenchId, world.bench)!
    const most = drive.borrowed.bytesPerSecond ?? undefined
    return driveEnd(drive, driveName(drive), [{ name: `the network to ${name}`, link: access.network!, most }])
  }
  const hostId = medium.kind === 'image' ? medium.store : medium.kind === 'virtual-disk' ? medium.hostId : ''
  const host = hostsOf(world.bench).find((h) => h.id === hostId)!
  const rate = host.diskBytesPerSecond
  return {
    name: `disk of the ${runnerName({ kind: 'host', id: host.id, host })}`,
    readBytesPerSecond: rate,
    writeBytesPerSecond: rate,
    requestSeconds: 0,
    links: access.network ? [{ name: 'the network', link: access.network }] : [],
  }
}

/** What earlier copies are told apart by: the links, and the adapters they are of. */
function linkKeyOf(access: Access, end: End): string {
  const links = end.links.map((l) => l.link).join('+')
  if (access.anywhere) return `${access.driveId}:${links}`
  return access.adapter ? `${access.adapter.id}:${links}` : links || 'own'
}

function timed(world: World, pair: number, from: Medium, fromEnd: End, toEnd: End, linkKey: string) {
  const { bytes } = world.question.pairs[pair]
  const timing = legTiming(fromEnd, toEnd)
  const past = world.question.past[linkKey]
  const drive = from.kind === 'drive' ? world.drives.get(from.driveId) : undefined
  const failing = drive !== undefined && healthVerdict(drive.health).state === 'failing'
  return { bytes, timing, linkKey, known: past ?? { copies: 0, share: 1 }, ...legRange(timing, bytes, past, failing) }
}

function done(state: State, transfer: Omit<Transfer, 'do'>): State {
  const holds = new Map(state.holds)
  holds.set(mediumKey(transfer.to, transfer.pair), transfer.pair)
  return { ...state, holds, actions: [...state.actions, { do: 'transfer', ...transfer }] }
}
