import { z } from 'zod'
import { TraceSchema } from '@/core/boot/types'
import { FitWishSchema, LayoutSchema } from '@/core/fit/types'
import { ProofCheckSchema } from '@/core/proof/compare'
import { RouteSchema } from '@/core/route/types'
import { DriveSurveySchema } from '@/core/survey/types'
import { SwapStepSchema } from '@/core/swap/steps'

// What each station leaves behind. Times are bench time in milliseconds.

export const IntakeResultSchema = z.object({ at: z.number() })
export const SurveyResultSchema = z.object({
  at: z.number(),
  source: DriveSurveySchema,
  target: DriveSurveySchema,
  confirmed: z.boolean(),
})
export const RouteResultSchema = z.object({ at: z.number(), route: RouteSchema })
export const FitResultSchema = z.object({
  at: z.number(),
  wish: FitWishSchema,
  layout: LayoutSchema,
  headline: z.string(),
  reason: z.string(),
})
export const ReadyResultSchema = z.object({ backupWaived: z.boolean(), whenDone: z.enum(['stay', 'power-off']) })
export const SwapResultSchema = z.object({
  steps: z.array(SwapStepSchema),
  done: z.array(z.object({ id: z.string(), at: z.number() })),
})
export const TrialSchema = z.object({
  at: z.number(),
  drive: z.string(),
  /** What was in the home slot: the old drive, the new one, neither. */
  subject: z.enum(['source', 'target', 'none']),
  trace: TraceSchema,
  checks: z.array(ProofCheckSchema),
})
export type Trial = z.infer<typeof TrialSchema>
export const ProofResultSchema = z.object({ trials: z.array(TrialSchema) })
export const HandoverResultSchema = z.object({ at: z.number(), shelfUntil: z.string() })

export const CopyStatusSchema = z.enum(['running', 'paused', 'done', 'stopped', 'failed', 'interrupted'])
export type CopyStatus = z.infer<typeof CopyStatusSchema>
