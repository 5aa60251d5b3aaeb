import type { Borrower, LenderEvent } from '@/nbd/lender'
import type { Subject } from '../../jobs/threads/tasks/subject'

/** What the thread of something that is lent is started with. */
export interface LendOrder {
  readonly subject: Subject
  readonly exportName: string
  readonly description: string
  readonly host: string
  readonly port: number
  readonly code: string
  /** Lent to be written: a drive whose plate was typed where it sits. */
  readonly writable: boolean
  /** This partition alone, by its number. */
  readonly partition: number | null
  /** Ends after the first that had all it wanted. */
  readonly once: boolean
}

export type FromLender =
  | { readonly type: 'listens'; readonly host: string; readonly port: number }
  | { readonly type: 'failed'; readonly message: string }
  | { readonly type: 'event'; readonly event: LenderEvent }
  /** What they have read by now. */
  | { readonly type: 'borrowers'; readonly borrowers: readonly Borrower[] }

export type ToLender =
  | { readonly type: 'answer'; readonly peer: string; readonly yes: boolean }
  | { readonly type: 'take back'; readonly peer: string }
  | { readonly type: 'end' }
