import { LRUCache } from 'lru-cache'
import { CHUNK_BYTES, chunkSteps } from './chunks'
import { type BlockDevice, checkRange, UnreadableSectors } from './device'
import { ReadOnlyWrapper } from './wrapped'

/** As many chunks are kept as records and directories of a walk lie in at a time: 16 MiB. */
const KEPT_CHUNKS = 256

/**
 * A device for looking around in: small readings are answered from whole chunks that are kept for a while, since
 * records and directories lie close together. Only for bytes that nobody changes meanwhile, and not for proving what
 * is on a medium. Writing is refused.
 */
export class ReadCacheDevice extends ReadOnlyWrapper {
  private readonly chunks = new LRUCache<number, Uint8Array>({ max: KEPT_CHUNKS })

  constructor(base: BlockDevice) {
    super(base)
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    if (into.length >= CHUNK_BYTES) return this.base.read(offset, into)
    try {
      for (const { index, from, to, at } of chunkSteps(offset, into.length))
        into.set((await this.chunk(index)).subarray(from, to), at)
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      // What does not read may lie beside what was asked for.
      await this.base.read(offset, into)
    }
  }

  private async chunk(index: number): Promise<Uint8Array> {
    const kept = this.chunks.get(index)
    if (kept) return kept
    const start = index * CHUNK_BYTES
    const bytes = new Uint8Array(Math.min(CHUNK_BYTES, this.size - start))
    await this.base.read(start, bytes)
    this.chunks.set(index, bytes)
    return bytes
  }
}
