import type { BlockDevice } from '@/core/block/device'
import { ReadOnlyWrapper } from '@/core/block/wrapped'

/** Passes reads on and counts the seconds that they take, past what the kernel keeps in memory where that is allowed. */
export class ClockedDevice extends ReadOnlyWrapper {
  seconds = 0

  static async over(base: BlockDevice): Promise<ClockedDevice> {
    await base.uncache?.().catch(() => {})
    return new ClockedDevice(base)
  }

  private constructor(base: BlockDevice) {
    super(base)
    // Every byte that is asked for is to be read, zeros too.
    delete this.mapped
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    const start = performance.now()
    try {
      await this.base.read(offset, into)
    } finally {
      this.seconds += (performance.now() - start) / 1000
    }
  }
}
