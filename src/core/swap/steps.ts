import { z } from 'zod'

/** What a computer's case asks for; part of the bench's description of it. */
export const ChassisSchema = z.object({
  kind: z.enum(['desktop', 'tower', 'laptop', 'server']),
  hasBattery: z.boolean(),
  /** The part that comes off, and what holds it. */
  cover: z.object({ name: z.string(), screws: z.number(), screw: z.string(), how: z.string() }),
  /** What holds a drive in its place. */
  driveMount: z.object({ screws: z.number(), screw: z.string(), how: z.string() }),
  tools: z.array(z.string()),
})
export type Chassis = z.infer<typeof ChassisSchema>

/** What a ticked step changes on the bench. */
export const StepEffectSchema = z.enum([
  'power-off',
  'mains-out',
  'source-out',
  'target-to-hand',
  'target-in',
  'mains-in',
])
export type StepEffect = z.infer<typeof StepEffectSchema>

/** The part of the plan that a step is about. */
export const StepPlaceSchema = z.enum(['power', 'mains', 'button', 'cover', 'drive', 'dock', 'slot'])

export const SwapStepSchema = z.object({
  id: z.string(),
  title: z.string(),
  /** A few words for the list beside the plan. */
  short: z.string(),
  how: z.string(),
  place: StepPlaceSchema,
  effect: StepEffectSchema.optional(),
})
export type SwapStep = z.infer<typeof SwapStepSchema>

export interface SwapQuestion {
  readonly computerName: string
  readonly chassis: Chassis
  readonly slotName: string
  readonly sourceName: string
  readonly targetName: string
  /** Where the target sits now; undefined when it is in the computer already. */
  readonly targetOutside?: string
}

/** The steps for this computer and these two drives, in order: all power away before anything is touched. */
export function swapSteps(question: SwapQuestion): SwapStep[] {
  const { computerName, chassis, slotName, sourceName, targetName, targetOutside } = question
  const { cover, driveMount } = chassis
  const step = (
    id: string,
    place: SwapStep['place'],
    short: string,
    title: string,
    how: string,
    effect?: StepEffect,
  ): SwapStep => ({
    id,
    place,
    short,
    title,
    how,
    ...(effect ? { effect } : {}),
  })
  const steps = [
    step(
      'shut-down',
      'power',
      'Shut down',
      `Shut the ${computerName} down`,
      'Shut down, not restart: a restart would look at both drives at once.',
      'power-off',
    ),
    step(
      'mains-out',
      'mains',
      'Mains out',
      'Pull the mains cable',
      'At the back of the computer, not at the switch alone.',
      'mains-out',
    ),
    step(
      'drain',
      'button',
      'Button held 10 s',
      'Hold the power button for ten seconds',
      'It drains what is left in the power supply.',
    ),
    step(
      'cover-off',
      'cover',
      `${capital(cover.name)} off`,
      `Take the ${cover.name} off`,
      `${screws(cover)} ${cover.how}`,
    ),
    step(
      'touch-metal',
      'cover',
      'Touch metal',
      'Touch the bare metal of the case',
      'It takes the charge off you before you touch a drive.',
    ),
    step(
      'source-out',
      'drive',
      'Old drive out',
      `Take the ${sourceName} out`,
      `Power plug first, then the data plug: pull the plugs, not the cables. ${screws(driveMount)} ${driveMount.how}`,
      'source-out',
    ),
  ]
  if (targetOutside) {
    steps.push(
      step(
        'target-to-hand',
        'dock',
        'New drive from the dock',
        `Take the ${targetName} out of ${targetOutside}`,
        'Switch the dock off first and wait until its light is out.',
        'target-to-hand',
      ),
      step(
        'target-in',
        'slot',
        'New drive in',
        `Put the ${targetName} in at ${slotName}`,
        `Same place, same plugs: ${slotName}, so that the firmware finds it where it looks first. ${screws(driveMount)}`,
        'target-in',
      ),
    )
  }
  return [
    ...steps,
    step(
      'cover-on',
      'cover',
      `${capital(cover.name)} on`,
      `Put the ${cover.name} back`,
      `${screws(cover)} Leave them loose until it has started once.`,
    ),
    step(
      'mains-in',
      'mains',
      'Mains in',
      'Plug the mains cable in',
      'Do not switch on yet: the first start is the trial in Proof.',
      'mains-in',
    ),
  ]
}

function screws({ screws, screw }: { screws: number; screw: string }): string {
  return screws === 0 ? 'No screws.' : `${screws} ${screws === 1 ? 'screw' : 'screws'}, ${screw}.`
}

function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}
