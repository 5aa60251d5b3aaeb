import type { Worker } from 'node:worker_threads'
import type { LoanView } from '@/core/lent/view'
import type { Borrower } from '@/nbd/lender'
import { singleton } from '../../ground/singleton'
import type { Lease } from '../../leases'
import type { LookedAt } from '../../world/looked-at'

/** Something that is lent, with the thread that lends it. */
export interface Lent {
  readonly id: string
  readonly subject: LookedAt
  readonly name: string
  readonly code: string
  readonly writable: boolean
  readonly worker: Worker
  readonly lease: Lease
  uri: string
  address: string
  wrongKeys: number
  /** Connections that ask or have it, by their number. */
  readonly connections: Map<number, Borrower>
  /** What those that have ended had read and written, by address. */
  readonly movedBefore: Map<string, Moved>
  readonly started: { listens: () => void; failed: (error: Error) => void }
}

/** What is lent now, by its id; a server that ends lends nothing any more. */
export const lentNow = () => singleton('lent', () => new Map<string, Lent>())

/** What is about to be lent: it counts before its thread listens. */
export const startingNow = () => singleton('lent-starting', () => new Set<string>())

/** Those that ask, have it or have had it, one for each address. */
export function loansOf({ connections, movedBefore }: Lent): LoanView[] {
  const byPeer = new Map<string, Borrower[]>()
  for (const one of connections.values()) byPeer.set(one.peer, [...(byPeer.get(one.peer) ?? []), one])
  return [
    ...[...byPeer].map(([peer, all]): LoanView => {
      const state = all.some((one) => one.state === 'has it') ? 'has it' : 'asks'
      return { peer, state, ...all.reduce(together, movedBefore.get(peer) ?? NOTHING) }
    }),
    ...[...movedBefore]
      .filter(([peer]) => !byPeer.has(peer))
      .map(([peer, moved]): LoanView => ({ peer, state: 'had it', ...moved })),
  ]
}

/** What an address has read and written. */
type Moved = Pick<Borrower, 'readBytes' | 'writtenBytes'>

export const NOTHING: Moved = { readBytes: 0, writtenBytes: 0 }

export const together = (a: Moved, b: Moved): Moved => ({
  readBytes: a.readBytes + b.readBytes,
  writtenBytes: a.writtenBytes + b.writtenBytes,
})

/** How many are lent, and how many addresses ask for one of them. */
export function lentCounts(): { count: number; asking: number } {
  const lent = [...lentNow().values()]
  return { count: lent.length, asking: lent.flatMap((one) => loansOf(one).filter((l) => l.state === 'asks')).length }
}
