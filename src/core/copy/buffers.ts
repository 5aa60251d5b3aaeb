/** A fixed set of buffers that are handed out and given back; a taker waits while all are out. */
export class BufferPool {
  private readonly free: Uint8Array[]
  private readonly waiting: ((buffer: Uint8Array) => void)[] = []

  constructor(
    readonly count: number,
    readonly bytesEach: number,
  ) {
    // Memory that threads share, so that one of them can write while this one goes on.
    this.free = Array.from({ length: count }, () => new Uint8Array(new SharedArrayBuffer(bytesEach)))
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
