import { formatSize } from '../bytes/size'
import { counted, listed } from '../words'

/** What the first start of a virtual machine is told by. */
export interface FirstStartFacts {
  readonly machine: {
    readonly connected: boolean
    readonly vlan: number | undefined
    readonly memoryBytes: number
    readonly cores: number
    readonly disks: number
  }
  /** The machine that it came from. */
  readonly physical: {
    readonly name: string
    readonly running: boolean
    readonly memoryBytes: number
    readonly cores: number
  }
  /** It started from its own disks, and nothing was changed on them since. */
  readonly started: boolean
  /** Checks after the start, and how many of them failed. */
  readonly checks: number
  readonly failed: number
  /** Leftover devices that can still be let go of: what would be changed, one sentence each. */
  readonly leftover: readonly string[]
  readonly devicesGone: boolean
  /** Fixed addresses that the old cards had; none where there were none. */
  readonly addresses: readonly string[]
  /** Its card has them. */
  readonly addressGiven: boolean
}

export const FIRST_START_STEPS = ['start', 'volumes', 'devices', 'power-off', 'address', 'network', 'size'] as const
export type FirstStartStepId = (typeof FIRST_START_STEPS)[number]

/** A step of a first start. `waits` names what has to come before. */
export interface FirstStartStep {
  readonly id: FirstStartStepId
  readonly title: string
  /** What there is to see of it, a sentence. */
  readonly found: string
  readonly state: 'done' | 'open' | 'waits'
  readonly waits?: string
  /** It may be left as it is. */
  readonly optional?: boolean
}

/** The steps of a first start in the trade's order, each as far as it is now. */
export function firstStartSteps(facts: FirstStartFacts): FirstStartStep[] {
  const { machine, physical, started, checks, failed, leftover, devicesGone, addresses, addressGiven } = facts
  const there = started && failed === 0
  const steps: (Omit<FirstStartStep, 'state'> & { readonly done: boolean; readonly after?: string })[] = [
    {
      id: 'start',
      title: 'Start it without network',
      done: started,
      found: started
        ? `It starts from its own disks${machine.connected ? '' : ', its network card not connected'}.`
        : `The ${physical.name} ${physical.running ? 'goes on running' : 'is off'}; the two must not meet on the network.`,
    },
    {
      id: 'volumes',
      title: 'All volumes are there',
      done: there,
      after: started ? undefined : 'after the start',
      found: started
        ? failed > 0
          ? `${counted(failed, 'check')} of ${checks} failed.`
          : `${counted(checks, 'check')} passed on ${counted(machine.disks, 'disk')}. A question about an improper shutdown is normal once.`
        : 'Told by the start.',
    },
    {
      id: 'devices',
      title: 'Leftover devices are removed',
      done: devicesGone || (started && leftover.length === 0),
      after: there ? undefined : 'when all volumes are there',
      found: devicesGone
        ? 'Removed from its registry.'
        : leftover.length > 0
          ? leftover.join(' ')
          : 'Its registry has none.',
    },
    {
      id: 'power-off',
      title: `The ${physical.name} is powered off`,
      done: !physical.running,
      after: there ? undefined : 'when all volumes are there',
      found: physical.running ? 'It is running. From now on only one of the two may be in use.' : 'It is off.',
    },
    {
      id: 'address',
      title: 'Its network card has the fixed address',
      done: addresses.length === 0 || addressGiven,
      after:
        devicesGone || leftover.length === 0
          ? there
            ? undefined
            : 'when all volumes are there'
          : 'when the leftover devices are removed',
      found:
        addresses.length === 0
          ? 'The old one had no fixed address.'
          : addressGiven
            ? `${listed(addresses)}, in its registry.`
            : `The old card had ${listed(addresses)}, as its registry says.`,
      optional: true,
    },
    {
      id: 'network',
      title: 'The network card is connected',
      done: machine.connected,
      after: !there ? 'when all volumes are there' : physical.running ? `when the ${physical.name} is off` : undefined,
      found: machine.connected
        ? machine.vlan === undefined
          ? 'Connected, without VLAN.'
          : `Connected, in VLAN ${machine.vlan}.`
        : 'Not connected.',
    },
    {
      id: 'size',
      title: 'Memory and processors are what it needs',
      done: machine.memoryBytes < physical.memoryBytes || machine.cores < physical.cores,
      after: machine.connected ? undefined : 'when it is on the network',
      found: `${formatSize(machine.memoryBytes)} and ${counted(machine.cores, 'processor')}; the ${physical.name} has ${formatSize(physical.memoryBytes)} and ${physical.cores}.`,
      optional: true,
    },
  ]
  return steps.map(({ done, after, ...step }) => ({
    ...step,
    state: done ? 'done' : after ? 'waits' : 'open',
    ...(after && !done ? { waits: after } : {}),
  }))
}
