import { type BlockDevice, UnreadableSectors } from './device'
import { ReadOnlyWrapper } from './wrapped'

/** What a drive and the link to it make of a request. */
export interface RequestCost {
  readonly readBytesPerSecond: number
  readonly requestSeconds: number
  /** How long the drive tries before it gives a sector up. */
  readonly retrySeconds: number
}

/** Passes reads on and counts how long they would have taken on the drive. It is not written to. */
export class TimedDevice extends ReadOnlyWrapper {
  /** Seconds that all reads so far would have taken. */
  seconds = 0

  constructor(
    base: BlockDevice,
    private readonly cost: RequestCost,
  ) {
    super(base)
    // Every byte that is asked for is to be read, zeros too.
    delete this.mapped
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    const { readBytesPerSecond, requestSeconds, retrySeconds } = this.cost
    this.seconds += requestSeconds + into.length / readBytesPerSecond
    try {
      await this.base.read(offset, into)
    } catch (error) {
      if (error instanceof UnreadableSectors) this.seconds += retrySeconds
      throw error
    }
  }
}
