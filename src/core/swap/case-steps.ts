import { upperFirst } from '../words'
import { type Chassis, screwGroups } from '../things/chassis'
import type { Computer } from '../things/computer'
import type { SwapStep } from './types'

// What a case asks for, as data: which step, when, and with which words. Chosen by the facts of the computer.

/** The facts that choose the steps of a case. */
export interface CaseFacts {
  readonly computer: Computer
  /** A start from the new drive comes when these steps are done, and can be made with the case open. */
  readonly staysOpen: boolean
}

interface CaseStep {
  readonly id: string
  readonly place: SwapStep['place']
  readonly when?: (facts: CaseFacts) => boolean
  readonly short: (chassis: Chassis) => string
  readonly title: (computer: Computer) => string
  readonly how: (chassis: Chassis) => string
  readonly screws?: 'out' | 'in'
  readonly effect?: (computerId: string) => SwapStep['effect']
  readonly afterStart?: (facts: CaseFacts) => boolean
}

/** Before a slot is touched. */
const OPENING: readonly CaseStep[] = [
  {
    id: 'shut-down',
    place: 'power',
    when: ({ computer }) => computer.running !== 'off',
    short: () => 'Shut down',
    title: ({ name }) => `Shut the ${name} down`,
    how: () => 'Shut down, not restart: a restart would look at both drives at once.',
    effect: (computerId) => ({ kind: 'power-off', computerId }),
  },
  {
    id: 'mains-out',
    place: 'mains',
    short: () => 'Unplugged',
    title: () => 'Pull the mains cable',
    how: () => 'At the back of the computer, not at the switch alone.',
    effect: (computerId) => ({ kind: 'mains-out', computerId }),
  },
  {
    id: 'drain',
    place: 'button',
    when: ({ computer }) => !computer.chassis.hasBattery,
    short: () => 'Button held 10 s',
    title: () => 'Hold the power button for ten seconds',
    how: () => 'It drains what is left in the power supply.',
  },
  {
    id: 'cover-off',
    place: 'cover',
    short: ({ cover }) => `${upperFirst(cover.name)} off`,
    title: ({ name, chassis }) => `Take the ${chassis.cover.name} off the ${name}`,
    how: ({ cover }) => cover.how,
    screws: 'out',
  },
  {
    id: 'battery-off',
    place: 'power',
    when: ({ computer }) => computer.chassis.hasBattery,
    short: () => 'Battery off',
    title: () => 'Unplug the battery from the board',
    how: () => 'Before anything else inside is touched: it goes on giving power while the mains is out.',
    effect: (computerId) => ({ kind: 'battery', computerId, out: true }),
  },
  {
    id: 'drain-after-battery',
    place: 'button',
    when: ({ computer }) => computer.chassis.hasBattery,
    short: () => 'Button held 10 s',
    title: () => 'Hold the power button for ten seconds',
    how: () => 'With the battery unplugged it drains what is left on the board.',
  },
  {
    id: 'touch-metal',
    place: 'cover',
    short: () => 'Touch metal',
    title: () => 'Touch the bare metal of the case',
    how: () => 'It takes the charge off you before you touch a drive.',
  },
]

/** After the last slot was touched. */
const CLOSING: readonly CaseStep[] = [
  {
    id: 'battery-on',
    place: 'power',
    when: ({ computer }) => computer.chassis.hasBattery,
    short: () => 'Battery on',
    title: () => 'Plug the battery into the board again',
    how: () => 'Straight down until it sits level.',
    effect: (computerId) => ({ kind: 'battery', computerId, out: false }),
  },
  {
    id: 'cover-on',
    place: 'cover',
    when: ({ staysOpen }) => !staysOpen,
    short: ({ cover }) => `${upperFirst(cover.name)} on`,
    title: ({ chassis }) => `Put the ${chassis.cover.name} back`,
    how: ({ cover }) => `${cover.how ? 'The way it came off. ' : ''}Every screw goes where it was.`,
    screws: 'in',
  },
  {
    id: 'mains-in',
    place: 'mains',
    short: () => 'Plugged in',
    title: () => 'Plug the mains cable in',
    how: () => 'Do not switch on yet: what starts it comes next.',
    effect: (computerId) => ({ kind: 'mains-in', computerId }),
  },
  {
    id: 'shut-down-again',
    place: 'power',
    when: ({ staysOpen }) => staysOpen,
    afterStart: () => true,
    short: () => 'Shut down',
    title: ({ name }) => `Shut the ${name} down once more`,
    how: () => 'It has started from the new drive, so the case can be closed.',
    effect: (computerId) => ({ kind: 'power-off', computerId }),
  },
  {
    id: 'cover-on-last',
    place: 'cover',
    when: ({ staysOpen }) => staysOpen,
    afterStart: () => true,
    short: ({ cover }) => `${upperFirst(cover.name)} on`,
    title: ({ chassis }) => `Put the ${chassis.cover.name} back`,
    how: ({ cover }) => `${cover.how ? 'The way it came off. ' : ''}Every screw goes where it was.`,
    screws: 'in',
  },
]

export const openingSteps = (facts: CaseFacts): SwapStep[] => stepsFrom(OPENING, facts)
export const closingSteps = (facts: CaseFacts): SwapStep[] => stepsFrom(CLOSING, facts)

function stepsFrom(kinds: readonly CaseStep[], facts: CaseFacts): SwapStep[] {
  const { id: computerId, chassis } = facts.computer
  return kinds.flatMap((kind): SwapStep[] => {
    if (kind.when && !kind.when(facts)) return []
    const groups = kind.screws ? screwGroups(chassis.cover) : []
    const effect = kind.effect?.(computerId)
    return [
      {
        id: kind.id,
        place: kind.place,
        computerId,
        short: kind.short(chassis),
        title: kind.title(facts.computer),
        how: groups.length === 0 && kind.screws ? `No screws. ${kind.how(chassis)}` : kind.how(chassis),
        ...(kind.screws && groups.length > 0 ? { screws: { way: kind.screws, groups } } : {}),
        ...(kind.afterStart?.(facts) ? { afterStart: true } : {}),
        ...(effect ? { effect } : {}),
      },
    ]
  })
}
