import { setTimeout as sleep } from 'node:timers/promises'
import type { BlockDevice } from '@/core/block/device'
import type { LiveDevice } from '@/core/block/live'
import { Heat, type HeatModel } from '@/core/copy/heat'
import type { CopyPhase } from '@/core/copy/run'
import type { Pace, Provider, Rest, RunningSystem, StoredClock, Surroundings } from '@/core/outside/port'
import { LiveDrive, LiveSystem } from './live-system'
import { SCENARIO_START } from './scenario/things'

/** The simulated world: hands are told, and time is that of a model. */
export const SIMULATED: Provider = {
  id: 'simulated',
  isTold: true,
  hasPower: true,
  reachOf: () => ({ inside: true, firmware: 'bench' }),
  hasPace: true,
  now: ({ at }: StoredClock, sinceStart, beyond) => at + sinceStart + beyond,
  firstClock: { at: SCENARIO_START, pace: '30' },
}

/** How long a drive tries before it gives a sector up. */
const RETRY_SECONDS = 1.5

/** A copy's seconds as its devices and links would take them, at the pace of the bench clock. */
export class SimulatedSurroundings implements Surroundings {
  private readonly pacer: Pacer
  private heat: Heat | undefined
  /** All systems that write meanwhile, one for each drive of the computer that runs. */
  private readonly systems: LiveSystem[] = []

  constructor(pace: Pace) {
    this.pacer = new Pacer(pace)
  }

  reads(heat: HeatModel | undefined): void {
    this.heat = heat && new Heat(heat)
  }

  took(modelled: number): number {
    return modelled
  }

  trouble(failures: number): number {
    return failures * RETRY_SECONDS
  }

  async pass(seconds: number, phase: CopyPhase, onRest: (rest: Rest) => void): Promise<void> {
    this.heat?.work(phase === 'check' ? 0 : seconds)
    for (const system of this.systems) await system.pass(seconds)
    await this.pacer.spend(seconds)
    if (!this.heat?.tooWarm || (phase !== 'copy' && phase !== 'rescue')) return
    const { celsius } = this.heat
    const rest = this.heat.rest()
    if (rest === 0) return
    onRest({ celsius, seconds: rest })
    await this.pacer.spend(rest)
  }

  setPace(pace: Pace): void {
    this.pacer.set(pace)
  }

  restart(): void {
    this.pacer.restart()
  }

  async goOnWriting(drive: BlockDevice, system: RunningSystem): Promise<LiveDevice> {
    const live = new LiveDrive(drive)
    this.systems.push(await LiveSystem.start(live, { ...system, seed: 7 + this.systems.length }))
    return live
  }
}

/** Holds a copy back so that its modelled seconds pass at the pace of the bench clock. */
class Pacer {
  private due = 0
  private anchor = performance.now()

  constructor(private pace: Pace) {}

  set(pace: Pace): void {
    this.pace = pace
    this.restart()
  }

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
