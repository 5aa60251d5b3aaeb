import * as z from 'zod'
import { PlaceSchema, ShelfSchema } from '../things/drive'
import { ScrewGroupSchema } from '../things/chassis'

/** What a ticked step changes on the bench. */
export const StepEffectSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('power-off'), computerId: z.string() }),
  z.object({ kind: z.literal('mains-out'), computerId: z.string() }),
  z.object({ kind: z.literal('mains-in'), computerId: z.string() }),
  z.object({ kind: z.literal('battery'), computerId: z.string(), out: z.boolean() }),
  /** `toShelf`: an old drive that the plan does not need again. */
  z.object({ kind: z.literal('take'), driveId: z.string(), toShelf: z.boolean() }),
  z.object({ kind: z.literal('put'), driveId: z.string(), into: PlaceSchema }),
  z.object({ kind: z.literal('secure-boot'), computerId: z.string(), on: z.boolean() }),
])
export type StepEffect = z.infer<typeof StepEffectSchema>

/** The bench as it was before a step was ticked, of what the step changed; it is so again when the step is unticked. */
export const BeforeStepSchema = z.object({
  drive: z.object({ id: z.string(), place: PlaceSchema, shelf: ShelfSchema.optional() }).optional(),
  computer: z
    .object({
      id: z.string(),
      running: z.enum(['off', 'system', 'stick']),
      mains: z.boolean(),
      batteryOut: z.boolean(),
      secureBoot: z.boolean(),
    })
    .optional(),
})
export type BeforeStep = z.infer<typeof BeforeStepSchema>

/** A step that was ticked, with when that was in bench time. */
export const DoneStepSchema = z.object({ id: z.string(), at: z.number(), before: BeforeStepSchema.optional() })
export type DoneStep = z.infer<typeof DoneStepSchema>

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
  /** Screws that come out, or go in again; each is ticked. */
  screws: z.object({ way: z.enum(['out', 'in']), groups: z.array(ScrewGroupSchema) }).optional(),
  /** Done only once a start from the new drive has passed. */
  afterStart: z.boolean().optional(),
  effect: StepEffectSchema.optional(),
})
export type SwapStep = z.infer<typeof SwapStepSchema>

/** Screws of a step that were ticked, by the place of their group. */
export const TicksSchema = z.record(z.string(), z.array(z.number().int().min(0).max(99)))
export type Ticks = z.infer<typeof TicksSchema>
