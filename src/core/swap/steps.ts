import { z } from 'zod'
import { upperFirst } from '../words'
import type { Action, Hands } from '../route/types'
import { type BenchState, placeName } from '../things/bench'
import type { Computer } from '../things/computer'
import { driveName, PlaceSchema } from '../things/drive'

/** What a ticked step changes on the bench. */
export const StepEffectSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('power-off'), computerId: z.string() }),
  z.object({ kind: z.literal('mains-out'), computerId: z.string() }),
  z.object({ kind: z.literal('mains-in'), computerId: z.string() }),
  /** `toShelf`: an old drive that the plan does not need again. */
  z.object({ kind: z.literal('take'), driveId: z.string(), toShelf: z.boolean() }),
  z.object({ kind: z.literal('put'), driveId: z.string(), into: PlaceSchema }),
  z.object({ kind: z.literal('secure-boot'), computerId: z.string(), on: z.boolean() }),
])
export type StepEffect = z.infer<typeof StepEffectSchema>

/** The part of the opened computer that a step is about. */
export const StepPlaceSchema = z.enum(['power', 'mains', 'button', 'cover', 'drive', 'dock', 'slot'])

export const SwapStepSchema = z.object({
  id: z.string(),
  title: z.string(),
  /** A few words for the list beside the plan. */
  short: z.string(),
  how: z.string(),
  place: StepPlaceSchema,
  computerId: z.string(),
  /** The slot that a drive leaves or goes into. */
  slot: z.string().optional(),
  effect: StepEffectSchema.optional(),
})
export type SwapStep = z.infer<typeof SwapStepSchema>

export interface SwapQuestion {
  readonly bench: BenchState
  /** The computer that is shown while a dock is touched. */
  readonly computerId: string
  /** What hands do now. Starts among them are left to the stations that do them. */
  readonly hands: readonly Hands[]
  /** What the plan does after that. */
  readonly later: readonly Action[]
  readonly sourceIds: readonly string[]
}

/** The steps for what hands do, in order: all power away before a slot is touched, the case closed at the end. */
export function swapSteps(question: SwapQuestion): SwapStep[] {
  const { bench, hands } = question
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
    for (const step of opening(computer)) add(step)
  }
  const closed = (computerId: string) => {
    const computer = computerOf(computerId)
    if (!computer || !open.delete(computerId)) return
    for (const step of closing(computer)) add(step)
  }
  for (const [i, action] of hands.entries()) {
    if (action.do === 'start') closed(action.computerId)
    if (action.do === 'secure-boot') {
      closed(action.computerId)
      const computer = computerOf(action.computerId)
      if (computer) add(secureBoot(computer, action.on))
    }
    if (action.do !== 'take' && action.do !== 'put') continue
    const place = action.do === 'take' ? action.from : action.into
    const computer = place.kind === 'slot' ? computerOf(place.computerId) : undefined
    if (computer) opened(computer)
    const comesBack = [...hands.slice(i + 1), ...question.later].some(
      (a) => a.do === 'put' && a.driveId === action.driveId,
    )
    add(driveStep(question, action, computer, !comesBack && question.sourceIds.includes(action.driveId)))
  }
  for (const id of [...open]) closed(id)
  return steps
}

function opening(computer: Computer): SwapStep[] {
  const { name, chassis, id: computerId } = computer
  const steps: SwapStep[] = []
  if (computer.running !== 'off') {
    steps.push({
      id: 'shut-down',
      place: 'power',
      computerId,
      short: 'Shut down',
      title: `Shut the ${name} down`,
      how: 'Shut down, not restart: a restart would look at both drives at once.',
      effect: { kind: 'power-off', computerId },
    })
  }
  steps.push(
    {
      id: 'mains-out',
      place: 'mains',
      computerId,
      short: 'Mains out',
      title: 'Pull the mains cable',
      how: 'At the back of the computer, not at the switch alone.',
      effect: { kind: 'mains-out', computerId },
    },
    {
      id: 'drain',
      place: 'button',
      computerId,
      short: 'Button held 10 s',
      title: 'Hold the power button for ten seconds',
      how: 'It drains what is left in the power supply.',
    },
    {
      id: 'cover-off',
      place: 'cover',
      computerId,
      short: `${upperFirst(chassis.cover.name)} off`,
      title: `Take the ${chassis.cover.name} off${steps.length === 0 ? ` the ${name}` : ''}`,
      how: `${screws(chassis.cover)} ${chassis.cover.how}`,
    },
  )
  if (chassis.hasBattery) {
    steps.push({
      id: 'battery-off',
      place: 'power',
      computerId,
      short: 'Battery off',
      title: 'Unplug the battery from the board',
      how: 'Before anything else inside is touched: it goes on giving power while the mains is out.',
    })
  }
  steps.push({
    id: 'touch-metal',
    place: 'cover',
    computerId,
    short: 'Touch metal',
    title: 'Touch the bare metal of the case',
    how: 'It takes the charge off you before you touch a drive.',
  })
  return steps
}

function closing({ id: computerId, chassis }: Computer): SwapStep[] {
  return [
    {
      id: 'cover-on',
      place: 'cover',
      computerId,
      short: `${upperFirst(chassis.cover.name)} on`,
      title: `Put the ${chassis.cover.name} back`,
      how: `${chassis.hasBattery ? 'Battery plug first. ' : ''}${screws(chassis.cover)} Leave them loose until it has started once.`,
    },
    {
      id: 'mains-in',
      place: 'mains',
      computerId,
      short: 'Mains in',
      title: 'Plug the mains cable in',
      how: 'Do not switch on yet: what starts it comes next.',
      effect: { kind: 'mains-in', computerId },
    },
  ]
}

function driveStep(
  { bench, computerId, sourceIds }: SwapQuestion,
  action: Extract<Hands, { do: 'take' | 'put' }>,
  computer: Computer | undefined,
  toShelf: boolean,
): SwapStep {
  const drive = bench.drives.find((d) => d.id === action.driveId)
  const name = drive ? driveName(drive) : 'drive'
  const which = sourceIds.includes(action.driveId)
    ? 'Old drive'
    : drive?.purpose === 'transfer'
      ? 'Transfer drive'
      : 'New drive'
  const place = action.do === 'take' ? action.from : action.into
  const where = placeName(place, bench)
  const slot = place.kind === 'slot' ? place.slot : undefined
  const common = { computerId: computer?.id ?? computerId, ...(slot ? { slot } : {}) }
  if (action.do === 'take') {
    const effect = { kind: 'take', driveId: action.driveId, toShelf } as const
    const id = `take-${action.driveId}`
    if (!computer) {
      const how = 'Switch it off first and wait until its light is out.'
      return {
        ...common,
        id,
        place: 'dock',
        short: `${which} out of the dock`,
        title: `Take the ${name} out of ${where}`,
        how,
        effect,
      }
    }
    const plugs = drive?.body.form === '2.5-inch' || drive?.body.form === '3.5-inch'
    const how = `${plugs ? 'Power plug first, then the data plug: pull the plugs, not the cables. ' : ''}${screws(computer.chassis.driveMount)} ${computer.chassis.driveMount.how}`
    return { ...common, id, place: 'drive', short: `${which} out`, title: `Take the ${name} out`, how, effect }
  }
  const effect = { kind: 'put', driveId: action.driveId, into: action.into } as const
  const id = `put-${action.driveId}`
  if (!computer) {
    const how = 'It goes in by itself when it is the right way round; do not press.'
    return {
      ...common,
      id,
      place: 'dock',
      short: `${which} into the dock`,
      title: `Put the ${name} into ${where}`,
      how,
      effect,
    }
  }
  const angle = drive?.body.form === 'M.2' ? 'In at an angle until no contacts show, then down. ' : ''
  const how = `${angle}At ${slot}, so that the firmware finds it where the plan has it. ${screws(computer.chassis.driveMount)}`
  return { ...common, id, place: 'slot', short: `${which} in`, title: `Put the ${name} in at ${slot}`, how, effect }
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

function screws({ screws, screw }: { screws: number; screw: string }): string {
  return screws === 0 ? 'No screws.' : `${screws} ${screws === 1 ? 'screw' : 'screws'}, ${screw}.`
}
