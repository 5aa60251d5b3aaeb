import { AsyncLocalStorage } from 'node:async_hooks'
import { Mutex } from 'async-mutex'
import { singleton } from './singleton'

// Changes are made one after the other: those of a move in its own queue, those of the bench in one for all. What is
// decided and what it is decided about are in one turn. A change that needs both takes the move's turn first, then the
// bench's, so that no two wait for each other.

const BENCH = 'bench'

interface Queues {
  readonly byName: Map<string, { readonly mutex: Mutex; waiting: number }>
  /** The queues whose turn the present call has. */
  readonly held: AsyncLocalStorage<readonly string[]>
}

const queues = () => singleton('queues', (): Queues => ({ byName: new Map(), held: new AsyncLocalStorage() }))

/** Makes a change of a move when those before it are done. Within such a change it runs at once. */
export function inMoveQueue<T>(moveId: string, change: () => Promise<T>): Promise<T> {
  const name = `move ${moveId}`
  const held = queues().held.getStore() ?? []
  if (!held.includes(name) && held.includes(BENCH)) {
    throw new Error('A change of the bench cannot wait for one of a move, which may be waiting for the bench.')
  }
  return inQueue(name, change)
}

/** Makes a change of the bench: of what is on it, where it is, and which move has it. */
export function inBenchQueue<T>(change: () => Promise<T>): Promise<T> {
  return inQueue(BENCH, change)
}

async function inQueue<T>(name: string, change: () => Promise<T>): Promise<T> {
  const { byName, held } = queues()
  const now = held.getStore() ?? []
  if (now.includes(name)) return change()
  const queue = byName.get(name) ?? { mutex: new Mutex(), waiting: 0 }
  byName.set(name, queue)
  queue.waiting++
  try {
    return await queue.mutex.runExclusive(() => held.run([...now, name], change))
  } finally {
    if (--queue.waiting === 0) byName.delete(name)
  }
}
