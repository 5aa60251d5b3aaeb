import type { Borrowed } from '../things/drive'

export const LOOPBACK = '127.0.0.1'

/** One address that asks for something that is lent, has it, or has had it. */
export interface LoanView {
  readonly peer: string
  readonly state: 'asks' | 'has it' | 'had it'
  readonly readBytes: number
  readonly writtenBytes: number
}

/** Something that is lent over the network. */
export interface LentView {
  readonly id: string
  readonly name: string
  /** The page of the drive or image. */
  readonly href: string
  readonly code: string
  /** It is lent to be written over. */
  readonly writable: boolean
  readonly uri: string
  /** Where it is listened, in words. */
  readonly address: string
  readonly wrongKeys: number
  readonly loans: readonly LoanView[]
}

/** Something that another bench was asked for and that has not come yet. */
export interface BorrowingView {
  readonly id: string
  readonly address: string
  readonly state: 'connects' | 'asked' | 'refused'
  /** Why it was refused, in a sentence. */
  readonly why: string
}

/** A drive of this bench that another one lends. */
export interface BorrowedView {
  readonly driveId: string
  readonly name: string
  readonly bench: string
  readonly address: string
  readonly state: Borrowed['state']
  readonly writable: boolean
  readonly bytesPerSecond: number | null
  /** It is still there, in no hand of this bench. */
  readonly isThere: boolean
}
