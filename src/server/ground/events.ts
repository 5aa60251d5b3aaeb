import { AsyncLocalStorage } from 'node:async_hooks'
import { randomUUID } from 'node:crypto'
import { EventEmitter } from 'node:events'
import type { JobView } from '@/core/job'
import type { PageState } from '@/core/page-state'
import { singleton } from './singleton'

/** What browsers are told: that a move or the bench changed, or how far a copy is. */
export type BenchEvent =
  | { readonly type: 'changed'; readonly moveId: string | null }
  /** How far holding a move's maps of used blocks against the files is. */
  | { readonly type: 'maps'; readonly moveId: string; readonly title: string; readonly files: number }
  | { readonly type: 'job'; readonly job: JobView }
  | { readonly type: 'progress'; readonly moveId: string; readonly progress: unknown; readonly benchNow: number }

const bus = () =>
  singleton('events', () => {
    const emitter = new EventEmitter()
    // Every open page listens.
    emitter.setMaxListeners(0)
    return { emitter, server: randomUUID(), changes: 0 }
  })

/** What a page shows is of one state: another one after every change, and for every server. */
export function stateNow(): PageState {
  const { server, changes } = bus()
  return { server, changes }
}

function emit(event: BenchEvent): void {
  const state = bus()
  if (event.type === 'changed') state.changes++
  state.emitter.emit('event', event)
}

const holding = () => singleton('held-events', () => new AsyncLocalStorage<{ events: BenchEvent[]; over: boolean }>())

export function publish(event: BenchEvent): void {
  const held = holding().getStore()
  if (held && !held.over) held.events.push(event)
  else emit(event)
}

/** Runs a change; pages are told of it when it is made, and of nothing where it fails. */
export async function holdEvents<T>(change: () => Promise<T>): Promise<T> {
  const held = { events: [], over: false }
  try {
    const result = await holding().run(held, change)
    held.events.forEach(emit)
    return result
  } finally {
    // What goes on behind its end is told at once.
    held.over = true
  }
}

/** Calls `listener` for every event until the returned function is called. */
export function subscribe(listener: (event: BenchEvent) => void): () => void {
  const { emitter } = bus()
  emitter.on('event', listener)
  return () => emitter.off('event', listener)
}
