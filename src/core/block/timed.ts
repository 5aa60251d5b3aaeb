import { type BlockDevice, UnreadableSectors } from './device'

/** What a drive and the link to it make of a request. */
export interface RequestCost {
  readonly readBytesPerSecond: number
  readonly requestSeconds: number
  /** How long the drive tries before it gives a sector up. */
  readonly retrySeconds: number
}

/** Passes reads on and counts how long they would have taken on the drive. It is not written to. */
export class TimedDevice implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  /** Seconds that all reads so far would have taken. */
  seconds = 0

  constructor(
    private readonly inner: BlockDevice,
    private readonly cost: RequestCost,
  ) {
    this.size = inner.size
    this.logicalSectorSize = inner.logicalSectorSize
    this.physicalSectorSize = inner.physicalSectorSize
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    const { readBytesPerSecond, requestSeconds, retrySeconds } = this.cost
    this.seconds += requestSeconds + into.length / readBytesPerSecond
    try {
      await this.inner.read(offset, into)
    } catch (error) {
      if (error instanceof UnreadableSectors) this.seconds += retrySeconds
      throw error
    }
  }

  write(): Promise<void> {
    return Promise.reject(new Error('A drive whose speed is measured is only read.'))
  }

  async flush(): Promise<void> {}
}
