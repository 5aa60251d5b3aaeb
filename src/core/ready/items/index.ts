import type { Acknowledgement, ReadyFacts, ReadyGoal, ReadyItem, ReadyKind } from '../port'
import { adapters } from './adapters'
import { address } from './address'
import { asleep } from './asleep'
import { backup } from './backup'
import { clean } from './clean'
import { connection } from './connection'
import { erased } from './erased'
import { failing } from './failing'
import { firmwareKind } from './firmware-kind'
import { further } from './further'
import { generalised } from './generalised'
import { handsFirst } from './hands-first'
import { hostRoom } from './host-room'
import { idleFiles } from './idle-files'
import { leftOut } from './left-out'
import { lent } from './lent'
import { machine } from './machine'
import { mains } from './mains'
import { maps } from './maps'
import { network } from './network'
import { networkDriver } from './network-driver'
import { notRunning } from './not-running'
import { notYet } from './not-yet'
import { programs } from './programs'
import { readBack } from './read-back'
import { readable } from './readable'
import { routeHolds } from './route-holds'
import { signer } from './signer'
import { sleep } from './sleep'
import { snapshot } from './snapshot'
import { storageDriver } from './storage-driver'
import { tableKind } from './table-kind'
import { unused } from './unused'

/** Every kind of item, in the order in which those of one state stand. */
const KINDS: readonly ReadyKind[] = [
  notYet,
  handsFirst,
  connection,
  lent,
  unused,
  routeHolds,
  failing,
  clean,
  maps,
  asleep,
  tableKind,
  storageDriver,
  networkDriver,
  signer,
  machine,
  generalised,
  notRunning,
  programs,
  network,
  sleep,
  snapshot,
  mains,
  backup,
  readable,
  idleFiles,
  leftOut,
  readBack,
  address,
  adapters,
  hostRoom,
  erased,
  further,
]

/** The list for this move, what blocks first, what is settled last. The same facts give the same list. */
export function readyItems(facts: ReadyFacts): ReadyItem[] {
  const rank = { blocks: 0, open: 1, settled: 2 }
  return KINDS.flatMap((kind) => kind(facts))
    .map((item) => overridden(item, facts.acknowledged[item.id]))
    .sort((a, b) => rank[a.state] - rank[b.state])
}

/** An item that a person went past, as long as it is still the one that they went past. */
function overridden(item: ReadyItem, given: Acknowledgement | undefined): ReadyItem {
  if (item.state === 'settled' || !item.overridable || !given?.reason || given.title !== item.title) return item
  return {
    ...item,
    state: 'settled',
    known: `skipped ${given.at}`,
    overridden: given.reason,
    how: undefined,
    action: undefined,
  }
}

/** What a computer needs to start a system that comes to it, of the kinds that can be told before anything is copied. */
export function needsOf(goal: ReadyGoal | undefined): ReadyItem[] {
  return [firmwareKind, storageDriver, networkDriver, signer].flatMap((kind) => kind({ goal }))
}

/** How many things still stand in the way. */
export function openCount(items: readonly ReadyItem[]): number {
  return items.filter((item) => item.state !== 'settled').length
}
