import { type Adapter, type Host, isAdapter, isHost } from '../things/accessory'
import type { BenchState } from '../things/bench'
import type { Computer } from '../things/computer'
import { LINKS, type LinkId, type Plug, type Socket, slower, type UsbLink } from '../things/links'

/** What can move bytes: a computer that runs the stick or its own system, or a computer of the shop. */
export type Runner =
  | { readonly kind: 'computer'; readonly id: string; readonly computer: Computer; readonly mode: 'stick' | 'system' }
  | { readonly kind: 'host'; readonly id: string; readonly host: Host }

export function hostsOf(bench: BenchState): Host[] {
  return bench.accessories.filter(isHost)
}

export function adaptersOf(bench: BenchState): Adapter[] {
  return bench.accessories.filter(isAdapter)
}

export function socketsOf(runner: Runner): readonly Socket[] {
  return runner.kind === 'host' ? runner.host.sockets : runner.computer.sockets
}

export function runnerName(runner: Runner): string {
  return runner.kind === 'host' ? runner.host.name : runner.computer.name
}

/** The link of a runner to the shop's network; undefined when one of the two has none. */
export function networkOf(runner: Runner, bench: BenchState): LinkId | undefined {
  const networks = bench.accessories.filter((a) => a.kind === 'network')
  if (networks.length === 0) return undefined
  const best = networks.map((n) => n.link).reduce(faster)
  if (runner.kind === 'host') return runner.host.network ? slower(runner.host.network, best) : undefined
  const cards = runner.computer.networkCards.map((c) => c.link)
  return cards.length > 0 ? slower(cards.reduce(faster), best) : undefined
}

const faster = <L extends LinkId>(a: L, b: L): L => (LINKS[b].bytesPerSecond > LINKS[a].bytesPerSecond ? b : a)

/** What plugging adapters in came to: the link of each one's socket, or why one finds none. */
export type Plugged =
  | { readonly works: true; readonly links: ReadonlyMap<string, UsbLink> }
  | { readonly works: false; readonly sentence: string }

interface Wanting {
  readonly id: string
  readonly name: string
  readonly plugs: readonly Plug[]
}

/** Gives each adapter, and the stick, a socket of its own: of all ways the one with the fastest slowest link. */
export function plugIn(adapters: readonly Adapter[], runner: Runner, stick: Wanting | undefined): Plugged {
  const wanting: Wanting[] = [...adapters, ...(stick ? [stick] : [])]
  const sockets = socketsOf(runner)
  for (const { name, plugs } of wanting) {
    if (!sockets.some((s) => plugs.includes(s.plug))) {
      const plug = plugs.join(' or ')
      return {
        works: false,
        sentence: `The ${name} has a ${plug} plug, and the ${runnerName(runner)} has no such socket.`,
      }
    }
  }
  let best: { links: Map<string, UsbLink>; rate: number } | undefined
  const left = sockets.map((s) => s.count)
  const links = new Map<string, UsbLink>()
  const assign = (i: number, rate: number): void => {
    if (i === wanting.length) {
      if (!best || rate > best.rate) best = { links: new Map(links), rate }
      return
    }
    const isStick = i >= adapters.length
    for (const [k, socket] of sockets.entries()) {
      if (left[k] === 0 || !wanting[i].plugs.includes(socket.plug)) continue
      left[k]--
      links.set(wanting[i].id, socket.link)
      // How fast the stick is does not matter to the copy.
      assign(i + 1, isStick ? rate : Math.min(rate, LINKS[socket.link].bytesPerSecond))
      left[k]++
    }
  }
  assign(0, Infinity)
  if (best) return { works: true, links: best.links }
  const names = wanting.map((w) => `the ${w.name}`).join(' and ')
  return { works: false, sentence: `The ${runnerName(runner)} has too few sockets for ${names}.` }
}
