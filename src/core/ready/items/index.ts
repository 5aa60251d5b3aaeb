import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'
import { asleep } from './asleep'
import { backup } from './backup'
import { clean } from './clean'
import { connection } from './connection'
import { erased } from './erased'
import { handsFirst } from './hands-first'
import { hostRoom } from './host-room'
import { leftOut } from './left-out'
import { mains } from './mains'
import { notRunning } from './not-running'
import { readable } from './readable'
import { routeHolds } from './route-holds'

/** Every kind of item, in the order in which those of one state stand. */
const KINDS: readonly ReadyKind[] = [
  handsFirst,
  connection,
  routeHolds,
  clean,
  asleep,
  notRunning,
  mains,
  backup,
  readable,
  leftOut,
  hostRoom,
  erased,
]

/** The list for this move, what blocks first, what is settled last. The same facts give the same list. */
export function readyItems(facts: ReadyFacts): ReadyItem[] {
  const rank = { blocks: 0, open: 1, settled: 2 }
  return KINDS.flatMap((kind) => kind(facts)).sort((a, b) => rank[a.state] - rank[b.state])
}

/** How many things still stand in the way. */
export function openCount(items: readonly ReadyItem[]): number {
  return items.filter((item) => item.state !== 'settled').length
}
