import type { Drive } from '../things/drive'
import { LINKS, type LinkId } from '../things/links'
import type { PastCopies } from './question'
import type { LegTiming } from './types'

/** One end of a transfer: what can be read or written there, and over which links it is reached. */
export interface End {
  readonly name: string
  readonly readBytesPerSecond: number
  readonly writeBytesPerSecond: number
  readonly requestSeconds: number
  /** A link with the words for where it is; several when bytes pass through more than one. */
  readonly links: readonly {
    readonly name: string
    readonly link: LinkId
    /** Bytes per second that it was measured to carry. */
    readonly most?: number
  }[]
}

/** Bytes of one request of a copy. */
const REQUEST_BYTES = 4 * 1024 * 1024

/** Real transfers stay within about a quarter of what a link can do; the range says so. */
const SPREAD = 1.25

export function driveEnd(drive: Drive, name: string, links: End['links']): End {
  const { readBytesPerSecond, writeBytesPerSecond, requestSeconds } = drive
  return { name, readBytesPerSecond, writeBytesPerSecond, requestSeconds, links }
}

const rateOf = ({ link, most = Infinity }: End['links'][number]) => Math.min(most, LINKS[link].bytesPerSecond)

/** The rates of a transfer: the slowest of reading, all links and writing, and what that is. */
export function legTiming(from: End, to: End): LegTiming {
  const links = [...from.links, ...to.links].map((l) => ({
    rate: rateOf(l),
    name: `${l.name}, ${rateOf(l) < LINKS[l.link].bytesPerSecond ? 'as measured' : LINKS[l.link].name}`,
  }))
  const parts = [
    { rate: from.readBytesPerSecond, name: `reading the ${from.name}` },
    ...links,
    { rate: to.writeBytesPerSecond, name: `writing the ${to.name}` },
  ]
  const slowest = parts.reduce((a, b) => (b.rate < a.rate ? b : a))
  return {
    copyBytesPerSecond: slowest.rate,
    checkBytesPerSecond: Math.min(to.readBytesPerSecond, ...to.links.map(rateOf)),
    requestSeconds: Math.max(from.requestSeconds, to.requestSeconds),
    checkRequestSeconds: to.requestSeconds,
    limitedBy: slowest.name,
  }
}

/** Seconds for copying `bytes` and for reading them back, at a transfer's rates. */
export function legSeconds(timing: LegTiming, bytes: number): { copy: number; check: number } {
  const { copyBytesPerSecond, checkBytesPerSecond, requestSeconds, checkRequestSeconds = requestSeconds } = timing
  const requests = Math.ceil(bytes / REQUEST_BYTES)
  return {
    copy: bytes / copyBytesPerSecond + requests * requestSeconds,
    check: bytes / checkBytesPerSecond + requests * checkRequestSeconds,
  }
}

/**
 * The time a transfer takes, from short to long. Earlier copies over the same links correct it; a source that
 * fails is read a second time, which the long end holds.
 */
export function legRange(
  timing: LegTiming,
  bytes: number,
  past: PastCopies | undefined,
  failing: boolean,
): { lowSeconds: number; highSeconds: number } {
  const { copy, check } = legSeconds(timing, bytes)
  const share = past?.share ?? 1
  return {
    lowSeconds: (copy + check) / share,
    highSeconds: ((copy * (failing ? 2 : 1) + check) / share) * SPREAD,
  }
}

/** A range of time as people say it: `18 – 22 min`. */
export function formatRange(lowSeconds: number, highSeconds: number): string {
  const range = (low: number | string, high: number | string) => (low === high ? high : `${low} – ${high}`)
  if (highSeconds < 90) return `${range(Math.max(1, Math.floor(lowSeconds)), Math.ceil(highSeconds))} s`
  if (highSeconds < 5400) return `${range(Math.max(1, Math.floor(lowSeconds / 60)), Math.ceil(highSeconds / 60))} min`
  return `${range((lowSeconds / 3600).toFixed(1), (highSeconds / 3600).toFixed(1))} h`
}
