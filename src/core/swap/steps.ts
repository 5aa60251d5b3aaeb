import type { Action, Hands, LeftOutside } from '../route/types'
import { type BenchState, placeName } from '../things/bench'
import { screwGroups } from '../things/chassis'
import type { Computer } from '../things/computer'
import { type Drive, driveName } from '../things/drive'
import { closingSteps, openingSteps } from './case-steps'
import { upperFirst } from '../words'
import type { SwapStep } from './types'

export interface SwapQuestion {
  readonly bench: BenchState
  /** The computer that is shown while a dock is touched. */
  readonly computerId: string
  /** What hands do now. Starts among them are left to the stations that do them. */
  readonly hands: readonly Hands[]
  /** What the plan does after that. */
  readonly later: readonly Action[]
  readonly sourceIds: readonly string[]
  /** Drives with the old system that this phase sets aside, out of the docks that the plan leaves them in. */
  readonly aside?: readonly LeftOutside[]
}

/**
 * The steps for what hands do, in order: all power away before a slot is touched, and the case closed at the end; of one
 * that can be started open, only after the first start from the new drive.
 */
export function swapSteps(question: SwapQuestion): SwapStep[] {
  const { bench, hands, later } = question
  const steps: SwapStep[] = []
  const open = new Set<string>()
  const computerOf = (id: string) => bench.computers.find((c) => c.id === id)
  const add = (step: SwapStep) => {
    const taken = steps.filter((s) => s.id === step.id || s.id.startsWith(`${step.id}~`)).length
    steps.push(taken > 0 ? { ...step, id: `${step.id}~${taken + 1}` } : step)
  }
  const opened = (computer: Computer) => {
    if (open.has(computer.id)) return
    open.add(computer.id)
    for (const step of openingSteps({ computer, staysOpen: false })) add(step)
  }
  // What is left for after the start has its place at the very end.
  const afterStart: SwapStep[] = []
  const closed = (computerId: string, last = false) => {
    const computer = computerOf(computerId)
    if (!computer || !open.delete(computerId)) return
    const staysOpen = last && ['desktop', 'tower'].includes(computer.chassis.kind)
    for (const step of closingSteps({ computer, staysOpen })) {
      if (step.afterStart) afterStart.push(step)
      else add(step)
    }
  }
  // Before anything gets power again: a drive and its copy are never attached to a computer that starts.
  for (const step of setAside(question)) add(step)
  for (const [i, action] of hands.entries()) {
    const ends = later.length === 0 && !hands.slice(i + 1).some((a) => a.do === 'take' || a.do === 'put')
    if (action.do === 'start') closed(action.computerId, ends && action.from === 'target')
    if (action.do === 'secure-boot') {
      closed(action.computerId)
      const computer = computerOf(action.computerId)
      if (computer) add(secureBoot(computer, action.on))
    }
    if (action.do !== 'take' && action.do !== 'put') continue
    const place = action.do === 'take' ? action.from : action.into
    const computer = place.kind === 'slot' ? computerOf(place.computerId) : undefined
    if (computer) opened(computer)
    const comesBack = [...hands.slice(i + 1), ...later].some((a) => a.do === 'put' && a.driveId === action.driveId)
    const isOld = question.sourceIds.includes(action.driveId)
    for (const step of driveSteps(question, action, computer, !comesBack && isOld)) add(step)
  }
  for (const id of [...open]) closed(id)
  for (const step of afterStart) add(step)
  return steps
}

function setAside({ bench, computerId, sourceIds, aside = [] }: SwapQuestion): SwapStep[] {
  return aside.flatMap(({ driveId, place }): SwapStep[] => {
    const drive = bench.drives.find((d) => d.id === driveId)
    if (!drive) return []
    const old = sourceIds.includes(driveId)
    return [
      {
        id: `aside-${driveId}`,
        place: 'dock',
        computerId,
        short: old ? 'Old drive on the shelf' : 'Transfer drive out',
        title: `Set the ${driveName(drive)} aside`,
        how: `${
          old
            ? `Out of the ${placeName(place, bench)}, its label on, and onto the shelf: until its day it is the way back.`
            : `Out of the ${placeName(place, bench)}; it is the shop’s and is used again.`
        } It carries the identity of the new drive, so it is not attached when that one starts.`,
        effect: { kind: 'take', driveId, toShelf: old },
      },
    ]
  })
}

function driveSteps(
  { bench, computerId, sourceIds }: SwapQuestion,
  action: Extract<Hands, { do: 'take' | 'put' }>,
  computer: Computer | undefined,
  toShelf: boolean,
): SwapStep[] {
  const drive = bench.drives.find((d) => d.id === action.driveId)
  const name = drive ? driveName(drive) : 'drive'
  const isOld = sourceIds.includes(action.driveId)
  const which = isOld ? 'Old drive' : drive?.purpose === 'transfer' ? 'Transfer drive' : 'New drive'
  const place = action.do === 'take' ? action.from : action.into
  const where = placeName(place, bench)
  const slot = place.kind === 'slot' ? place.slot : undefined
  const common = { computerId: computer?.id ?? computerId, ...(slot ? { slot } : {}) }
  const takes = action.do === 'take'
  const adapter = place.kind === 'bay' ? bench.accessories.find((a) => a.id === place.accessoryId) : undefined
  const effect = takes
    ? ({ kind: 'take', driveId: action.driveId, toShelf } as const)
    : ({ kind: 'put', driveId: action.driveId, into: action.into } as const)
  const id = `${action.do}-${action.driveId}`
  if (!computer) {
    return [
      {
        ...common,
        id,
        place: 'dock',
        short: `${which} ${takes ? 'out of' : 'into'} the ${adapter?.kind ?? 'dock'}`,
        title: takes ? `Take the ${name} out of the ${where}` : `Put the ${name} into the ${where}`,
        how: takes
          ? 'Switch it off first and wait until its light is out.'
          : 'It goes in by itself when it is the right way round; do not press.',
        effect,
      },
    ]
  }
  const { chassis } = computer
  const groups = screwGroups(chassis.driveMount)
  const held = groups.length > 0 ? { screws: { way: takes ? ('out' as const) : ('in' as const), groups } } : {}
  const movesOver = chassis.movesOver.map((part, i): SwapStep => ({
    ...common,
    id: `${takes ? 'off' : 'on'}-${action.driveId}-${i}`,
    place: takes ? 'drive' : 'slot',
    short: `${upperFirst(part.name)} ${takes ? 'off' : 'on'}`,
    title: takes ? `Take the ${part.name} off the ${name}` : `Put the ${part.name} on the ${name}`,
    how: `${part.how}${takes ? ' Keep it: it goes over to the other drive.' : ''}`,
  }))
  const plugs = connectorsOf(computer, drive)
  if (takes) {
    const how = [...plugs.map((p) => `${p.name}: ${p.how}`), chassis.driveMount.how].filter(Boolean).join(' ')
    const step = { id, place: 'drive', short: `${which} out`, title: `Take the ${name} out`, how, effect } as const
    return [{ ...common, ...step, ...held }, ...movesOver]
  }
  const how = [
    drive?.body.form === 'M.2' ? 'In at an angle until no contacts show, then down.' : '',
    `At ${slot}, so that the firmware finds it where the plan has it.`,
    plugs.length > 0
      ? `Then the ${plugs
          .map((p) => p.name.toLowerCase())
          .toReversed()
          .join(' and the ')}.`
      : '',
  ]
  const step = {
    id,
    place: 'slot',
    short: `${which} in`,
    title: `Put the ${name} in at ${slot}`,
    how: how.filter(Boolean).join(' '),
    effect,
  } as const
  return [...movesOver, { ...common, ...step, ...held }]
}

/** The plugs on a drive and how each lets go: what the case says, or what drives of that form have. */
function connectorsOf({ chassis }: Computer, drive: Drive | undefined): readonly { name: string; how: string }[] {
  if (chassis.connectors.length > 0) return chassis.connectors
  const cabled = drive?.body.form === '2.5-inch' || drive?.body.form === '3.5-inch'
  return cabled
    ? [
        { name: 'Power plug', how: 'pull it straight, at the plug and not at the cable.' },
        { name: 'Data plug', how: 'press its clip if it has one, then pull.' },
      ]
    : []
}

function secureBoot({ id: computerId, name, firmware }: Computer, on: boolean): SwapStep {
  return {
    id: `secure-boot-${on ? 'on' : 'off'}`,
    place: 'power',
    computerId,
    short: `Secure Boot ${on ? 'on' : 'off'}`,
    title: `Turn Secure Boot ${on ? 'on again' : 'off'}`,
    how: `In the firmware settings of the ${name}; ${firmware.bootMenuKey} leads there at power-on.${on ? '' : ' It is turned on again before the first start.'}`,
    effect: { kind: 'secure-boot', computerId, on },
  }
}
