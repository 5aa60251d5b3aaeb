import { EventEmitter } from 'node:events'
import type { JobView } from '@/core/job'
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
    return emitter
  })

export function publish(event: BenchEvent): void {
  bus().emit('event', event)
}

/** Calls `listener` for every event until the returned function is called. */
export function subscribe(listener: (event: BenchEvent) => void): () => void {
  const emitter = bus()
  emitter.on('event', listener)
  return () => emitter.off('event', listener)
}
