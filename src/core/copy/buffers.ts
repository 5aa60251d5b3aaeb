/** Of memory that is asked for this way. */
const PAGE_BYTES = 64 * 1024

/** A fixed set of buffers that are handed out and given back; a taker waits while all are out. */
export class BufferPool {
  private readonly free: Uint8Array[]
  private readonly waiting: ((buffer: Uint8Array) => void)[] = []

  constructor(
    readonly count: number,
    readonly bytesEach: number,
  ) {
    // Memory that threads share, so that one of them can write while this one goes on; and of this kind since it begins
    // at a page, as bytes have to that go straight to a disk.
    const pages = Math.ceil((count * bytesEach) / PAGE_BYTES)
    const { buffer } = new WebAssembly.Memory({ initial: pages, maximum: pages, shared: true })
    this.free = Array.from({ length: count }, (_, i) => new Uint8Array(buffer, i * bytesEach, bytesEach))
  }

  take(): Promise<Uint8Array> {
    const buffer = this.free.pop()
    return buffer ? Promise.resolve(buffer) : new Promise((resolve) => this.waiting.push(resolve))
  }

  give(buffer: Uint8Array): void {
    const next = this.waiting.shift()
    if (next) next(buffer)
    else this.free.push(buffer)
  }
}
