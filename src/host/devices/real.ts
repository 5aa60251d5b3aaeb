import { CoreError } from '@/core/errors'
import type { LiveDevice } from '@/core/block/live'
import type { Provider, Surroundings } from '@/core/outside/port'

/** What is plugged into this computer: it is seen, and time is that of its clock. */
export const THIS_COMPUTER: Provider = {
  id: 'this-computer',
  isTold: false,
  hasPower: false,
  reachOf: ({ isThis }) => (isThis ? { inside: true, firmware: 'variables' } : { inside: false, firmware: 'none' }),
  hasPace: false,
  now: () => wallClock(),
  firstClock: { at: 0, pace: '1' },
}

/** The time of day here, as a calendar without time zones has it. */
function wallClock(): number {
  const now = new Date()
  return now.getTime() - now.getTimezoneOffset() * 60_000
}

/** A copy's seconds as they pass. */
export class RealSurroundings implements Surroundings {
  private last = performance.now()

  took(): number {
    const now = performance.now()
    const seconds = (now - this.last) / 1000
    this.last = now
    return seconds
  }

  /** What a drive tried took as long as it took. */
  trouble(failures: number): number {
    return failures > 0 ? this.took() : 0
  }

  reads(): void {}

  async pass(): Promise<void> {}

  setPace(): void {}

  restart(): void {
    this.last = performance.now()
  }

  async goOnWriting(): Promise<LiveDevice> {
    throw new CoreError('A drive that a running system writes to is not copied here.')
  }
}
