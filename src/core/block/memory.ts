import { type BlockDevice, type Extent, checkRange } from './device'
import { CHUNK_BYTES, chunkSteps, extentsOfSteps, stepsAmong } from './chunks'

/** A device in memory. Only chunks that were written take room, so it may be as large as a real drive. */
export class MemoryDevice implements BlockDevice {
  readonly physicalSectorSize: number
  private readonly chunks = new Map<number, Uint8Array>()

  constructor(
    readonly size: number,
    readonly logicalSectorSize: 512 | 4096 = 512,
  ) {
    this.physicalSectorSize = logicalSectorSize
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    for (const { index, from, to, at } of chunkSteps(offset, into.length)) {
      const chunk = this.chunks.get(index)
      if (chunk) into.set(chunk.subarray(from, to), at)
      else into.fill(0, at, at + to - from)
    }
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    for (const step of chunkSteps(offset, from.length)) {
      let chunk = this.chunks.get(step.index)
      if (!chunk) this.chunks.set(step.index, (chunk = new Uint8Array(CHUNK_BYTES)))
      chunk.set(from.subarray(step.at, step.at + step.to - step.from), step.from)
    }
  }

  async flush(): Promise<void> {}

  async discard(offset: number, length: number): Promise<void> {
    checkRange(this, offset, length)
    for (const { index, from, to, kept: chunk } of stepsAmong(this.chunks, offset, length)) {
      if (to - from === CHUNK_BYTES) this.chunks.delete(index)
      else chunk.fill(0, from, to)
    }
  }

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return extentsOfSteps(stepsAmong(this.chunks, offset, length))
  }
}
