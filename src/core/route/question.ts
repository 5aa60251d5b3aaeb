import type { BenchState } from '../things/bench'
import type { Drive } from '../things/drive'

/** One drive of the move and where its content goes. */
export interface Pair {
  readonly sourceId: string
  /** Null where it becomes a virtual disk. */
  readonly targetId: string | null
  /** Bytes in used blocks and tables. */
  readonly bytes: number
  /** Images that hold it already, by the host they lie on. */
  readonly imagesAt: readonly string[]
  /**
   * Its target has an identity of its own afterwards, and the source is where it lives: one of its volumes goes, or the
   * old drive stays in beside the new one.
   */
  readonly stays?: boolean
}

/** What a transfer drive takes of an image. */
export interface RoomOnDrive {
  readonly bytes: number
  /** The kind of its volume, where that has no longer files although there is room. */
  readonly limitedBy: string | null
}

/** What earlier copies over the same links did: their mean share of the rate that devices and links would give. */
export interface PastCopies {
  readonly copies: number
  readonly share: number
}

/** Everything a search for plans is made from. Plain data; the same question gives the same answer. */
export interface RouteQuestion {
  readonly bench: BenchState
  /** The computer that the system lives in now. */
  readonly computerId: string
  readonly goal: { readonly kind: 'computer'; readonly computerId: string } | { readonly kind: 'virtual-machine' }
  /** The system's first. */
  readonly pairs: readonly Pair[]
  /** Room for an image on transfer drives, by drive; a drive without an entry takes none. */
  readonly roomOn: Readonly<Record<string, RoomOnDrive>>
  /** Drives that other moves rest on. */
  readonly claimedDrives: readonly string[]
  /**
   * Other drives that carry the identity of one that is moved, such as the original beside its image, by the pair that
   * it is of. They are in no computer that starts from what is moved.
   */
  readonly twins?: Readonly<Record<string, number>>
  /** By the links of a transfer. */
  readonly past: Readonly<Record<string, PastCopies>>
}

export function driveOf(question: RouteQuestion, id: string): Drive {
  const drive = question.bench.drives.find((d) => d.id === id)
  if (!drive) throw new RangeError(`No drive ${id} on this bench.`)
  return drive
}
