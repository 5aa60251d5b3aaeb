import { AsyncLocalStorage } from 'node:async_hooks'
import { Mutex } from 'async-mutex'
import { singleton } from './singleton'

// Changes are made one after the other: those of a move in its own queue, those of the bench in one for all. What is
// decided and what it is decided about are in one turn. A change that needs both takes the move's turn first, then the
// bench's, so that no two wait for each other.

const BENCH = 'bench'

interface Queues {
  readonly byName: Map<string, { readonly mutex: Mutex; waiting: number }>
  /** The turns that the present call is part of. */
  readonly held: AsyncLocalStorage<readonly Turn[]>
}

/** Work that was begun in a turn and goes on behind its end is no part of it any more. */
interface Turn {
  readonly name: string
  over: boolean
}

const queues = () => singleton('queues', (): Queues => ({ byName: new Map(), held: new AsyncLocalStorage() }))

/** Makes a change of a move when those before it are done. Within such a change it runs at once. */
export function inMoveQueue<T>(moveId: string, change: () => Promise<T>): Promise<T> {
  const name = `move ${moveId}`
  if (!hasTurn(name) && hasTurn(BENCH)) {
    throw new Error('A change of the bench cannot wait for one of a move, which may be waiting for the bench.')
  }
  return inQueue(name, change)
}

/** Makes a change of the bench: of what is on it, where it is, and which move has it. */
export function inBenchQueue<T>(change: () => Promise<T>): Promise<T> {
  return inQueue(BENCH, change)
}

/** Begins work that is no part of the turn it is begun in, such as a job. */
export function outsideQueues<T>(work: () => T): T {
  return queues().held.exit(work)
}

const turnsNow = () => (queues().held.getStore() ?? []).filter((turn) => !turn.over)

const hasTurn = (name: string) => turnsNow().some((turn) => turn.name === name)

async function inQueue<T>(name: string, change: () => Promise<T>): Promise<T> {
  const { byName, held } = queues()
  if (hasTurn(name)) return change()
  const queue = byName.get(name) ?? { mutex: new Mutex(), waiting: 0 }
  byName.set(name, queue)
  queue.waiting++
  try {
    return await queue.mutex.runExclusive(async () => {
      const turn: Turn = { name, over: false }
      try {
        return await held.run([...turnsNow(), turn], change)
      } finally {
        turn.over = true
      }
    })
  } finally {
    if (--queue.waiting === 0) byName.delete(name)
  }
}
