export const LOOPBACK = '127.0.0.1'

/** One address that asks for something that is lent, has it, or has had it. */
export interface LoanView {
  readonly peer: string
  readonly state: 'asks' | 'has it' | 'had it'
  readonly readBytes: number
}

/** Something that is lent over the network. */
export interface LentView {
  readonly id: string
  readonly name: string
  /** The page of the drive or image. */
  readonly href: string
  readonly code: string
  readonly uri: string
  /** Where it is listened, in words. */
  readonly address: string
  readonly wrongKeys: number
  readonly loans: readonly LoanView[]
}
