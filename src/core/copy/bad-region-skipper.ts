import { type BlockDevice, UnreadableSectors } from '../block/device'

/** Most pieces that are left for later without being tried, in a stretch where nothing reads. */
const MOST_SKIPPED = 63

/** Reads pieces, and leaves out more and more of them without trying while one after the other fails. */
export class BadRegionSkipper {
  private failed = 0
  private skip = 0

  /** False when the piece did not read, or was not tried. Any other failure is thrown on. */
  async reads(device: BlockDevice, offset: number, into: Uint8Array): Promise<boolean> {
    if (this.skip > 0) {
      this.skip--
      return false
    }
    try {
      await device.read(offset, into)
      this.failed = 0
      return true
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      this.skip = Math.min(MOST_SKIPPED, 2 ** this.failed++ - 1)
      return false
    }
  }
}
