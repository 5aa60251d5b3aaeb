import { SIMULATED, SimulatedSurroundings } from '@/bench/simulated'
import type { Pace, Provider, Surroundings } from '@/core/outside/port'
import { RealSurroundings, THIS_COMPUTER } from '@/host/devices/real'

const PROVIDERS: Record<Provider['id'], { provider: Provider; surroundings: (pace: Pace) => Surroundings }> = {
  simulated: { provider: SIMULATED, surroundings: (pace) => new SimulatedSurroundings(pace) },
  'this-computer': { provider: THIS_COMPUTER, surroundings: () => new RealSurroundings() },
}

/** The world of this process: that of this computer's drives only where it was asked for, simulated otherwise. */
export const provider = (): Provider => PROVIDERS[process.env.IMBARCO_DEVICES ? 'this-computer' : 'simulated'].provider

/** What a copy meets in a world. */
export const surroundingsOf = (id: Provider['id'], pace: Pace): Surroundings => PROVIDERS[id].surroundings(pace)
