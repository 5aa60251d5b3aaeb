import { setTimeout as sleep } from 'node:timers/promises'
import type { Pace } from '../world/clock'

/** Holds a copy back so that its modelled seconds pass at the pace of the bench clock. */
export class Pacer {
  private due = 0
  private anchor = performance.now()

  constructor(private pace: Pace) {}

  set(pace: Pace): void {
    this.pace = pace
    this.restart()
  }

  /** Forgets what was owed, after a pause or a change of pace. */
  restart(): void {
    this.due = 0
    this.anchor = performance.now()
  }

  /** Waits until `seconds` of the model have passed at this pace. */
  async spend(seconds: number): Promise<void> {
    if (this.pace === 'max') return
    this.due += (seconds * 1000) / Number(this.pace)
    const ahead = this.due - (performance.now() - this.anchor)
    // Short waits are gathered: timers are no finer than this.
    if (ahead > 15) await sleep(ahead)
  }
}
