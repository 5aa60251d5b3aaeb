import type { LiveDevice } from '../block/live'
import type { BlockDevice, Extent } from '../block/device'
import type { HeatModel } from '../copy/heat'
import type { CopyPhase } from '../copy/run'
import type { Computer } from '../things/computer'

// The world that the things of a bench are of: one that is simulated, or what is plugged into this computer.

/** How fast time of a simulated bench runs while bytes move: as in reality, thirty times that, or as fast as it goes. */
export type Pace = '1' | '30' | 'max'

/** The clock of a bench as it is stored: bench time, and the pace it goes at. */
export interface StoredClock {
  readonly at: number
  readonly pace: Pace
}

/** What differs between worlds, for everything else to be the same. */
export interface Provider {
  readonly id: 'simulated' | 'this-computer'
  /** Which drives there are, and where each sits, is what a person says; otherwise what is seen. */
  readonly isTold: boolean
  /**
   * Its computers are switched on and off from here, and what they do is followed on the bytes. Otherwise a person does
   * that, and tells what the computer did.
   */
  readonly hasPower: boolean
  reachOf(computer: Computer): Reach
  /** Its clock can be set to another pace. */
  readonly hasPace: boolean
  /**
   * Time of the bench in milliseconds of a calendar without time zones, `sinceStart` milliseconds after the clock was
   * read as `stored`; `beyond` is what passed in its model besides.
   */
  now(stored: StoredClock, sinceStart: number, beyond: number): number
  /** The clock of a bench that has none yet. */
  readonly firstClock: StoredClock
}

/** What of a computer can be told from here, and changed. */
export interface Reach {
  /** What is in its slots is known. */
  readonly inside: boolean
  /** Where its firmware keeps its settings: with the bench, in variables that are written here, or there alone. */
  readonly firmware: 'bench' | 'variables' | 'none'
}

/** A drive that is left to cool: how warm it was, and for how long. */
export interface Rest {
  readonly celsius: number
  readonly seconds: number
}

/** What a copy meets outside of itself. */
export interface Surroundings {
  /** Seconds that its last step took, which would be `modelled` on the devices and links of its leg. */
  took(modelled: number): number
  /** Seconds that so many failed readings took besides. */
  trouble(failures: number): number
  /** Another source is read from now on, which warms up so. */
  reads(heat: HeatModel | undefined): void
  /** Lets them pass for all that goes on meanwhile. `onRest` is told of a rest that the source takes before it goes on. */
  pass(seconds: number, phase: CopyPhase, onRest: (rest: Rest) => void): Promise<void>
  setPace(pace: Pace): void
  /** Forgets what was owed, after a pause. */
  restart(): void
  /** Has the system of a computer that runs go on writing to its drive. */
  goOnWriting(drive: BlockDevice, system: RunningSystem): Promise<LiveDevice>
}

/** What goes on in a system that runs while its drive is copied. */
export interface RunningSystem {
  /** The volume that its programs write to most. */
  readonly volume: Extent
  readonly programs: readonly string[]
}
