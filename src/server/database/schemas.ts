import * as z from 'zod'
import { FirmwareSchema, TraceSchema } from '@/core/boot/types'
import { CopyChoicesSchema, USUAL_CHOICES } from '@/core/copy/choices'
import { FitWishSchema, LayoutSchema } from '@/core/fit/types'
import { TARGET_KINDS } from '@/core/image'
import { SpeedSchema } from '@/core/intake/speed'
import { ProofCheckSchema } from '@/core/proof/compare'
import { PlanSchema } from '@/core/route/types'
import { DriveSurveySchema } from '@/core/survey/types'
import { DoneStepSchema, SwapStepSchema, TicksSchema } from '@/core/swap/types'

// What each station leaves behind. Times are bench time in milliseconds.

export const IntakeResultSchema = z.object({
  at: z.number(),
  /** Speed of the sources by drive, measured before anything changed. */
  speeds: z.record(z.string(), SpeedSchema.extend({ at: z.number() })),
})
export const SurveyResultSchema = z.object({
  at: z.number(),
  /** In the order of the brief; a target of null is a virtual disk that is not there yet. */
  pairs: z.array(z.object({ source: DriveSurveySchema, target: DriveSurveySchema.nullable() })),
  confirmed: z.boolean(),
})
export const RouteResultSchema = z.object({
  at: z.number(),
  plan: PlanSchema,
  /** What is on the drives that the plan writes to on the way, by drive. */
  via: z.record(z.string(), DriveSurveySchema),
  /** The images that the plan writes, and those it begins with; of a store that is a drive with the volume. */
  images: z
    .array(
      z.object({
        leg: z.number().int().nonnegative(),
        end: z.enum(['from', 'to']),
        name: z.string(),
        format: z.enum(TARGET_KINDS),
        volume: z.object({ partition: z.number(), offset: z.number(), length: z.number() }).nullable(),
      }),
    )
    .default([]),
  /** The virtual machine that the plan ends in, where it does, with why it is as it is and what keeps it from starting. */
  machine: z
    .object({ id: z.string(), reasons: z.array(z.string()), obstacles: z.array(z.string()) })
    .nullable()
    .default(null),
})
export type RouteResult = z.infer<typeof RouteResultSchema>
export const LockedFitSchema = z.object({
  at: z.number(),
  wish: FitWishSchema,
  layout: LayoutSchema,
  headline: z.string(),
  reason: z.string(),
})
/** In the order of the brief; null where it is not locked yet. `earlier` holds those that were let go, newest first. */
export const FitResultSchema = z.object({
  pairs: z.array(LockedFitSchema.nullable()),
  earlier: z.array(LockedFitSchema.extend({ pair: z.number() })).default([]),
})
export const ReadyResultSchema = z.object({
  /** As an earlier version kept it. */
  backupWaived: z.boolean().default(false),
  whenDone: z.enum(['stay', 'power-off']),
  /** What was turned off for the copy, by computer and what it was, to be turned on again. */
  turnedOff: z
    .array(
      z.object({
        computerId: z.string(),
        what: z.enum(['program', 'network', 'sleep']),
        of: z.string().default(''),
        name: z.string(),
        minutes: z.number().nullable().default(null),
      }),
    )
    .default([]),
  choices: CopyChoicesSchema.default(USUAL_CHOICES),
  /** What a person settled of the list, by item: when, and for one that was overridden why. */
  acknowledged: z
    .record(z.string(), z.object({ at: z.number(), title: z.string().optional(), reason: z.string().optional() }))
    .default({}),
})
export const SwapResultSchema = z.object({
  /** What hands do before each leg, and last what they do after all of them. */
  phases: z.array(
    z.object({
      steps: z.array(SwapStepSchema),
      done: z.array(DoneStepSchema),
      ticks: TicksSchema.default({}),
    }),
  ),
})
/** What a new drive does, and what its old one did before anything was changed. */
export const TrialSpeedSchema = z.object({
  source: z.string(),
  target: z.string(),
  before: SpeedSchema.optional(),
  after: SpeedSchema,
})
export type TrialSpeed = z.infer<typeof TrialSpeedSchema>
export const TrialSchema = z.object({
  at: z.number(),
  drive: z.string(),
  /** What was in the home slot: the old drive, the new one, neither. */
  subject: z.enum(['source', 'target', 'none']),
  trace: TraceSchema,
  checks: z.array(ProofCheckSchema),
  speeds: z.array(TrialSpeedSchema).default([]),
  /** What was in the slots: `SATA 0/crv5-960`. */
  attached: z.array(z.string()).default([]),
  /** Of a real computer: what a person saw it do, and when they said so. */
  told: z.object({ at: z.number(), starts: z.boolean() }).optional(),
})
export type Trial = z.infer<typeof TrialSchema>
/** A repair that was made on the target; its journal has the bytes. */
export const MadeRepairSchema = z.object({
  id: z.string(),
  at: z.number(),
  /** When the trial was that it was made after. */
  trialAt: z.number(),
  driveId: z.string(),
  drive: z.string(),
  name: z.string(),
  title: z.string(),
  changes: z.array(z.string()),
  files: z.array(z.object({ path: z.string(), partition: z.number() })),
  /** The firmware as it was before, where the repair changed it. */
  firmware: FirmwareSchema.optional(),
  /** The partition that it made larger. */
  grows: z.object({ partition: z.number(), sizeBytes: z.number() }).optional(),
  /** What whoever uses the computer has to know of it. */
  know: z.array(z.string()).default([]),
  undone: z.boolean(),
})
export const ProofResultSchema = z.object({
  trials: z.array(TrialSchema),
  repairs: z.array(MadeRepairSchema).default([]),
})
export const HandoverResultSchema = z.object({
  at: z.number(),
  shelfUntil: z.string(),
  /** The day on the sheet, as `2026-05-04`; that of `at` without. */
  day: z.string().optional(),
  /** The shop on the sheet; the bench's without. */
  shop: z.string().optional(),
  /** Who carried it out. */
  by: z.string().max(60).default(''),
})

/** A move that was laid aside: put off until somebody takes it up again, or given up for good. */
export const StandingSchema = z.object({
  kind: z.enum(['put-off', 'given-up']),
  at: z.number(),
  why: z.string().max(300),
})
