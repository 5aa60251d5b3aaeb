import type { FileHandle } from 'node:fs/promises'

/** So much is written before the host is asked to start storing it, so that little is left to wait for at the end. */
const STORE_BYTES = 128 * 1024 * 1024

/**
 * Stores a file while it is written, and remembers what went wrong: the host reports an error of storing once only, to
 * whoever asks first, so it is kept and told at every flush from then on.
 */
export class BackgroundStore {
  private unstored = 0
  private storing: Promise<void> | undefined
  private failure: { readonly error: unknown } | undefined

  constructor(private readonly handle: Pick<FileHandle, 'datasync'>) {}

  /** So many bytes were written. */
  wrote(bytes: number): void {
    this.unstored += bytes
    if (this.unstored < STORE_BYTES || this.storing) return
    this.unstored = 0
    this.storing = this.store().finally(() => (this.storing = undefined))
  }

  /** Resolves when all that was written before is stored. Rejects with the first error that storing ever met. */
  async flush(): Promise<void> {
    await this.storing
    await this.store()
    if (this.failure) throw this.failure.error
  }

  /** Resolves when nothing is being stored any more, however that ended. */
  async idle(): Promise<void> {
    await this.storing
  }

  private async store(): Promise<void> {
    await this.handle.datasync().catch((error: unknown) => void (this.failure ??= { error }))
  }
}
