import type { Extent } from '../block/device'
import type { ImageStore } from './store'

const CHUNK = 16 * 1024

/** A file of an image in memory. */
export class MemoryStore implements ImageStore {
  private readonly chunks = new Map<number, Uint8Array>()
  size = 0

  /** With what another holds. */
  constructor(from?: MemoryStore) {
    for (const [index, chunk] of from?.chunks ?? []) this.chunks.set(index, chunk.slice())
    this.size = from?.size ?? 0
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    for (let at = 0; at < into.length;) {
      const index = Math.floor((offset + at) / CHUNK)
      const from = offset + at - index * CHUNK
      const length = Math.min(into.length - at, CHUNK - from)
      const chunk = this.chunks.get(index)
      if (chunk) into.set(chunk.subarray(from, from + length), at)
      else into.fill(0, at, at + length)
      at += length
    }
  }

  async write(offset: number, bytes: Uint8Array): Promise<void> {
    for (let at = 0; at < bytes.length;) {
      const index = Math.floor((offset + at) / CHUNK)
      const from = offset + at - index * CHUNK
      const length = Math.min(bytes.length - at, CHUNK - from)
      let chunk = this.chunks.get(index)
      if (!chunk) this.chunks.set(index, (chunk = new Uint8Array(CHUNK)))
      chunk.set(bytes.subarray(at, at + length), from)
      at += length
    }
    this.size = Math.max(this.size, offset + bytes.length)
  }

  async truncate(length: number): Promise<void> {
    for (const [index, chunk] of this.chunks) {
      const start = index * CHUNK
      if (start >= length) this.chunks.delete(index)
      else if (start + CHUNK > length) chunk.fill(0, length - start)
    }
    this.size = length
  }

  async flush(): Promise<void> {}

  async mapped(offset: number, length: number): Promise<Extent[]> {
    const found: { offset: number; length: number }[] = []
    for (const index of [...this.chunks.keys()].sort((a, b) => a - b)) {
      const from = Math.max(offset, index * CHUNK)
      const to = Math.min(offset + length, (index + 1) * CHUNK)
      if (from < to) found.push({ offset: from, length: to - from })
    }
    return found
  }

  async bytes(): Promise<Uint8Array> {
    const bytes = new Uint8Array(this.size)
    await this.read(0, bytes)
    return bytes
  }
}
