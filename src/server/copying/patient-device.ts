import { type BlockDevice, DeviceGone } from '@/core/block/device'
import { WrappedDevice } from '@/core/block/wrapped'

export interface Patience {
  /** Told true once while there is no connection, and false when there is one again. */
  readonly onAway: (away: boolean) => void
  /** How many connections were lost by now: what comes over the next one is looked at before anybody gets it. */
  readonly lost: () => number
  /** Rejects with what ends the waiting. */
  readonly ended: Promise<never>
  /** Rejects where what is there after a lost connection is not what was there before. */
  readonly recheck?: (device: BlockDevice) => Promise<void>
}

/** A drive that another bench lends: while its connection is lost, what is asked of it waits, and goes on by itself. */
export class PatientDevice extends WrappedDevice {
  private checked = 0
  private rechecking: Promise<void> | undefined
  private isAway = false

  constructor(
    base: BlockDevice,
    private readonly patience: Patience,
  ) {
    super(base)
    const { discard, mapped } = this
    const { digests } = base
    if (digests)
      this.digests = { by: digests.by, of: (offset, length) => this.patiently(() => digests.of(offset, length)) }
    if (discard) this.discard = (offset, length) => this.patiently(() => discard(offset, length))
    if (mapped) this.mapped = (offset, length) => this.patiently(() => mapped(offset, length))
  }

  override read(offset: number, into: Uint8Array): Promise<void> {
    return this.patiently(() => super.read(offset, into))
  }

  override write(offset: number, from: Uint8Array): Promise<void> {
    return this.patiently(() => super.write(offset, from))
  }

  override flush(): Promise<void> {
    return this.patiently(() => super.flush())
  }

  private async patiently<T>(work: () => Promise<T>): Promise<T> {
    const { ended } = this.patience
    for (;;) {
      const done = this.checkedWork(work)
      // Whoever ends the waiting does not wait for it; what it comes to then is nobody's.
      done.catch(() => {})
      try {
        const result = await Promise.race([done, ended])
        this.tell(false)
        return result
      } catch (error) {
        if (!(error instanceof DeviceGone)) throw error
        this.tell(true)
      }
    }
  }

  private async checkedWork<T>(work: () => Promise<T>): Promise<T> {
    const result = await work()
    while (this.checked !== this.patience.lost() && this.patience.recheck) {
      const lost = this.patience.lost()
      this.rechecking ??= this.patience.recheck(this.base).finally(() => (this.rechecking = undefined))
      await this.rechecking
      this.checked = lost
    }
    return result
  }

  private tell(away: boolean): void {
    if (away === this.isAway) return
    this.isAway = away
    this.patience.onAway(away)
  }
}
