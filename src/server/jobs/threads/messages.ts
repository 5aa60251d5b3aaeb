import type { TaskProgress } from './tasks'

/** To a thread: one task at a time, and that it is to stop. */
export type ToThread =
  | { readonly type: 'task'; readonly name: string; readonly order: unknown }
  | { readonly type: 'stop' }

export type FromThread =
  | { readonly type: 'progress'; readonly progress: TaskProgress }
  | { readonly type: 'done'; readonly result: unknown }
  | { readonly type: 'failed'; readonly failure: TaskFailure }

/** An error, as it can go from one thread to another. */
export interface TaskFailure {
  /** `core`: the message is a sentence for a person. */
  readonly kind: 'core' | 'stopped' | 'full' | 'other'
  readonly message: string
}
