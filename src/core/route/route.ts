import { formatRate, formatSize } from '../bytes/size'
import { type LegTiming, type LinkId, LINKS, type Route } from './types'

/** A drive where it sits now, with what it can do. Rates in bytes per second. */
export interface Endpoint {
  readonly driveId: string
  readonly name: string
  /** The form and protocol that decide where it can be put, for example `2.5-inch SATA`. */
  readonly interfaceName: string
  readonly readBytesPerSecond: number
  readonly writeBytesPerSecond: number
  readonly requestSeconds: number
  /** Where it sits, as people say it; undefined when it is in nothing that carries bytes. */
  readonly berth?: { readonly name: string; readonly link: LinkId; readonly inComputer: boolean }
}

export interface RouteQuestion {
  readonly computerName: string
  /** The slot the system starts from, and the interface it takes. */
  readonly homeSlot: { readonly name: string; readonly interfaceName: string }
  readonly source: Endpoint
  readonly target: Endpoint
  /** Bytes in used blocks. */
  readonly bytes: number
}

export type RouteAnswer =
  { readonly works: true; readonly route: Route } | { readonly works: false; readonly reason: string }

/** Real transfers stay within about a quarter of what a link can do; the range says so. */
const SPREAD = 1.25

/** The way from where the source sits to where the target sits, with its time, or why there is none. */
export function planRoute(question: RouteQuestion): RouteAnswer {
  const { source, target, homeSlot, computerName, bytes } = question
  if (source.driveId === target.driveId) return { works: false, reason: 'Source and target are the same drive.' }
  if (!source.berth) return { works: false, reason: `${source.name} is not connected: put it in a slot or a bay.` }
  if (!target.berth) return { works: false, reason: `${target.name} is not connected: put it in a slot or a bay.` }
  if (target.interfaceName !== homeSlot.interfaceName) {
    return {
      works: false,
      reason: `${target.name} is ${target.interfaceName}, and ${homeSlot.name} of the ${computerName} takes ${homeSlot.interfaceName}.`,
    }
  }
  const timing = legTiming(source, target)
  const seconds = legSeconds(timing, bytes)
  const outside = !target.berth.inComputer
  const slow = target.berth.link === 'usb-2' || source.berth.link === 'usb-2'
  const rate = `${formatSize(bytes)}, ${formatRate(timing.copyBytesPerSecond)}`
  const stops: Route['stops'] = [
    { title: 'Rescue stick', sub: `starts the ${computerName}`, toNext: 'start', label: 'start' },
    { title: source.name, sub: source.berth.name, toNext: 'bytes', label: rate },
    { title: target.name, sub: target.berth.name, toNext: 'hands', label: outside ? 'swap by hand' : 'old drive out' },
    { title: target.name, sub: `starts in ${homeSlot.name}` },
  ]
  return {
    works: true,
    route: {
      title: outside ? 'New drive outside, swap after' : 'Both drives inside, old one out after',
      why: outside
        ? 'The old drive stays where it is until the copy is checked, so nothing is taken apart before it has to be.'
        : 'Both drives are on the fastest links the computer has.',
      stops,
      leg: {
        bytes,
        from: `${source.name}, ${source.berth.name}`,
        to: `${target.name}, ${target.berth.name}`,
        timing,
        lowSeconds: seconds,
        highSeconds: seconds * SPREAD,
      },
      risks: [
        'The system is not running while it is copied, so no file changes under the copy.',
        ...(outside ? [`The new drive is first started after the swap, in ${homeSlot.name}.`] : []),
        ...(slow ? ['USB 2 makes this a matter of hours; another port or dock would end it sooner.'] : []),
      ],
    },
  }
}

/** The rates of a leg: the slowest of reading, both links and writing, and what that is. */
export function legTiming(source: Endpoint, target: Endpoint): LegTiming {
  const sourceLink = LINKS[source.berth!.link]
  const targetLink = LINKS[target.berth!.link]
  const parts = [
    { rate: source.readBytesPerSecond, name: `reading the ${source.name}` },
    { rate: sourceLink.bytesPerSecond, name: `${source.berth!.name}, ${sourceLink.name}` },
    { rate: targetLink.bytesPerSecond, name: `${target.berth!.name}, ${targetLink.name}` },
    { rate: target.writeBytesPerSecond, name: `writing the ${target.name}` },
  ]
  const slowest = parts.reduce((a, b) => (b.rate < a.rate ? b : a))
  return {
    copyBytesPerSecond: slowest.rate,
    checkBytesPerSecond: Math.min(target.readBytesPerSecond, targetLink.bytesPerSecond),
    requestSeconds: Math.max(source.requestSeconds, target.requestSeconds),
    limitedBy: slowest.name,
  }
}

/** Seconds for copying `bytes` and reading them back at a leg's rates. */
export function legSeconds(timing: LegTiming, bytes: number): number {
  return bytes / timing.copyBytesPerSecond + bytes / timing.checkBytesPerSecond
}

/** A range of minutes as people say it: `18 – 22 min`. */
export function formatRange(lowSeconds: number, highSeconds: number): string {
  if (highSeconds < 90) return `${Math.max(1, Math.floor(lowSeconds))} – ${Math.ceil(highSeconds)} s`
  if (highSeconds < 5400) return `${Math.max(1, Math.floor(lowSeconds / 60))} – ${Math.ceil(highSeconds / 60)} min`
  return `${(lowSeconds / 3600).toFixed(1)} – ${(highSeconds / 3600).toFixed(1)} h`
}
